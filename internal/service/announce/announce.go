// Package announce tells other programs that runs have ended: as CloudEvents 1.0 in the
// structured JSON format (https://github.com/cloudevents/spec, JSON event format), signed
// after the Standard Webhooks specification. It knows the receivers, and how one is told
// once; the queue repeats what failed.
package announce

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// limit is how long a receiver may take.
const limit = 10 * time.Second

// Announcer tells receivers.
type Announcer struct {
	DB      *records.DB
	Allowed []netip.Prefix // private networks in which receivers may be
	client  *http.Client
}

// New returns an announcer.
func New(db *records.DB, allowed []netip.Prefix) *Announcer {
	a := &Announcer{DB: db, Allowed: allowed}
	dialer := &net.Dialer{Timeout: limit, Control: a.control}
	a.client = &http.Client{
		Timeout: limit, Transport: &http.Transport{DialContext: dialer.DialContext, DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	return a
}

// control refuses connections to networks that are not allowed. It sees the address itself,
// whatever a name was resolved to.
func (a *Announcer) control(_, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	ip := at.Addr().Unmap()
	if isPublic(ip) || slices.ContainsFunc(a.Allowed, func(p netip.Prefix) bool { return p.Contains(ip) }) {
		return nil
	}
	return fmt.Errorf("%s is on a private network: allow it with grayloftd serve --announce-to", ip)
}

// special are networks that are not for everybody's machines although no other property says so:
// the registries of special addresses (RFC 6890, and IANA's lists for both versions), and those by
// which an address of version 6 leads to one of version 4, whatever that is.
var special = parse("0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "192.88.99.0/24", "198.18.0.0/15", "198.51.100.0/24",
	"203.0.113.0/24", "240.0.0.0/4", "::/96", "64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16",
	"3fff::/20", "5f00::/16", "fec0::/10")

func parse(list ...string) (out []netip.Prefix) {
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

func isPublic(ip netip.Addr) bool {
	ip = ip.Unmap()
	return ip.IsGlobalUnicast() && !ip.IsPrivate() && !slices.ContainsFunc(special, func(p netip.Prefix) bool { return p.Contains(ip) })
}

// Receiver is an address to which the runs of a repository are announced.
type Receiver struct {
	ID         int64      `db:"id"`
	Repository int64      `db:"repository_id"`
	Name       string     `db:"name"` // of the repository
	URL        string     `db:"url"`
	Secret     string     `db:"secret"`
	MadeBy     string     `db:"made_by"`
	MadeAt     time.Time  `db:"made_at"`
	Tried      *time.Time `db:"tried_at"`
	Outcome    string     `db:"outcome"`
}

const columns = `x.id, x.repository_id, r.name, x.url, x.secret, x.made_by, x.made_at, x.tried_at, x.outcome`

// Add adds a receiver, and returns the secret that signs what is sent to it. An error about
// the address is a [records.InvalidError].
func (a *Announcer) Add(ctx context.Context, repository int64, address, madeBy string) (id int64, secret string, err error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.User != nil {
		return 0, "", records.InvalidError{
			Err: fmt.Errorf("%q is not the address of a receiver: write it like https://chat.skerry.example/runs", address),
		}
	}
	key := make([]byte, 32)
	if _, err := rand.Read(key); err != nil {
		return 0, "", err
	}
	secret = "whsec_" + base64.StdEncoding.EncodeToString(key)
	return id, secret, a.DB.GetContext(ctx, &id, `
		INSERT INTO receivers (repository_id, url, secret, made_by) VALUES ($1, $2, $3, $4) RETURNING id`,
		repository, address, secret, madeBy)
}

// Receivers returns the receivers of a repository.
func (a *Announcer) Receivers(ctx context.Context, repository int64) ([]Receiver, error) {
	out := []Receiver{}
	return out, a.DB.SelectContext(ctx, &out, `
		SELECT `+columns+` FROM receivers x JOIN repositories r ON r.id = x.repository_id
		WHERE x.repository_id = $1 ORDER BY x.id`, repository)
}

// Remove removes a receiver of a repository.
func (a *Announcer) Remove(ctx context.Context, repository, id int64) error {
	res, err := a.DB.ExecContext(ctx, `DELETE FROM receivers WHERE repository_id = $1 AND id = $2`, repository, id)
	if err != nil {
		return err
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return fmt.Errorf("%w: receiver %d", records.ErrNotExist, id)
	}
	return nil
}

// event is a CloudEvent.
type event struct {
	SpecVersion     string          `json:"specversion"`
	ID              string          `json:"id"`
	Source          string          `json:"source"`
	Type            string          `json:"type"`
	Subject         string          `json:"subject"`
	Time            time.Time       `json:"time"`
	DataContentType string          `json:"datacontenttype"`
	Data            protocol.RunRow `json:"data"`
}

// The type of an announcement, and of its body.
const (
	RunEnded    = "grayloft.run.ended"
	ContentType = "application/cloudevents+json"
)

// Tell tells a receiver that a run has ended. A receiver or a run that is gone is no error.
func (a *Announcer) Tell(ctx context.Context, receiver int64, run string) error {
	var to Receiver
	err := a.DB.GetContext(
		ctx,
		&to,
		`SELECT `+columns+` FROM receivers x JOIN repositories r ON r.id = x.repository_id WHERE x.id = $1`,
		receiver,
	)
	if err != nil {
		return ignoreMissing(err)
	}
	row, err := a.DB.RunRow(ctx, to.Repository, run)
	if err != nil {
		return ignoreMissing(err)
	}
	err = a.send(ctx, to, run, row)
	outcome := "received"
	if err != nil {
		outcome = err.Error()
	}
	_, uerr := a.DB.ExecContext(
		ctx,
		`UPDATE receivers SET tried_at = now(), outcome = $2 WHERE id = $1`,
		receiver,
		strings.ToValidUTF8(outcome[:min(len(outcome), 300)], ""),
	)
	return errors.Join(err, uerr)
}

// ignoreMissing returns nil for what was removed in the meantime.
func ignoreMissing(err error) error {
	if errors.Is(err, sql.ErrNoRows) || errors.Is(err, records.ErrNotExist) {
		return nil
	}
	return err
}

func (a *Announcer) send(ctx context.Context, to Receiver, run string, row protocol.RunRow) error {
	at := row.Started.Add(time.Duration(row.Seconds * float64(time.Second)))
	body, err := json.Marshal(event{
		"1.0", run, "/v1/" + url.PathEscape(to.Name), RunEnded, "/runs/" + run, at.UTC(), "application/json", row,
	})
	if err != nil {
		return err
	}
	w, err := standardwebhooks.NewWebhook(to.Secret)
	if err != nil {
		return err
	}
	id, now := fmt.Sprintf("%s-%d", run, to.ID), time.Now()
	signature, err := w.Sign(id, now, body)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", ContentType)
	req.Header.Set(standardwebhooks.HeaderWebhookID, id)
	req.Header.Set(standardwebhooks.HeaderWebhookTimestamp, strconv.FormatInt(now.Unix(), 10))
	req.Header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	resp, err := a.client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, _ = io.CopyN(io.Discard, resp.Body, 64<<10) // what it says does not matter
	if resp.StatusCode >= 300 {
		return fmt.Errorf("it answered %s", resp.Status)
	}
	return nil
}

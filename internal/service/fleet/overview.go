package fleet

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"time"

	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/protocol"
)

// Overview returns what is being worked on, and by whom: runners that were seen in the last
// day, each name once unless several are there, pools, and claims in flight.
func (f *Fleet) Overview(ctx context.Context, repository int64) (out protocol.Fleet, err error) {
	if out.Protection, err = f.Protection(ctx, repository); err != nil {
		return out, err
	}
	if out.Runners, err = f.runners(ctx, repository, out.Protection); err != nil {
		return out, err
	}
	if out.Pools, err = f.pools(ctx, repository, out); err != nil {
		return out, err
	}
	out.Claims = []protocol.FlightClaim{}
	return out, f.DB.SelectContext(ctx, &out.Claims, `
		SELECT id, run_id AS run, task, shelf, name, host, place, seconds,
			greatest(0, extract(epoch FROM now() - began_at))::float8 AS elapsed
		FROM claims WHERE repository_id = $1 AND ended = '' AND lease_until > now() ORDER BY began_at LIMIT 200`, repository)
}

func (f *Fleet) runners(ctx context.Context, repository int64, p fleet.Protection) ([]protocol.Runner, error) {
	var rows []struct {
		ID       int64     `db:"id"`
		Hello    []byte    `db:"hello"`
		Draining bool      `db:"draining"`
		Gone     bool      `db:"gone"`
		Since    time.Time `db:"since"`
		Seen     time.Time `db:"seen_at"`
		Done     int       `db:"done"`
		Busy     []byte    `db:"busy"`
	}
	if err := f.DB.SelectContext(ctx, &rows, `
		SELECT r.id, r.hello, r.draining, r.since, r.seen_at, left_at IS NOT NULL OR seen_at < now() - make_interval(secs => $2) AS gone,
			(SELECT count(*) FROM jobs j WHERE j.runner_id = r.id AND j.ended_at IS NOT NULL) AS done,
			(SELECT coalesce(jsonb_agg(jsonb_build_object('job', j.id, 'request', j.request_id) ORDER BY j.id), '[]')
				FROM jobs j WHERE j.runner_id = r.id AND j.state = 'running') AS busy
		FROM runners r WHERE r.repository_id = $1 AND (seen_at > now() - interval '1 day')
		ORDER BY r.id DESC LIMIT 500`, repository, f.Lease.Seconds()); err != nil {
		return nil, err
	}
	out, shown, gone := []protocol.Runner{}, map[string]int{}, 0
	for _, r := range rows {
		x := protocol.Runner{ID: r.ID, Seen: r.Seen.UTC(), Since: r.Since.UTC(), Done: r.Done}
		if err := cmp.Or(json.Unmarshal(r.Hello, &x.RunnerHello), json.Unmarshal(r.Busy, &x.Busy)); err != nil {
			return nil, err
		}
		x.Protected = p.HasPool(x.Pool)
		switch {
		case r.Gone:
			x.State = "gone"
		case r.Draining:
			x.State = "draining"
		case len(x.Busy) > 0:
			x.State = "busy"
		default:
			x.State = "idle"
		}
		switch at, isShown := shown[x.Name]; {
		case r.Gone && isShown: // an earlier start of the same runner
			out[at].Done += x.Done
			continue
		case r.Gone && gone == goneShown:
			continue
		case r.Gone:
			gone++
		}
		shown[x.Name] = len(out)
		out = append(out, x)
	}
	return out, nil
}

// goneShown is how many runners are listed that are not there any more, the newest.
const goneShown = 20

// pools returns the pools that have runners or jobs, or are protected.
func (f *Fleet) pools(ctx context.Context, repository int64, seen protocol.Fleet) ([]protocol.Pool, error) {
	var rows []protocol.Pool
	if err := f.DB.SelectContext(ctx, &rows, `
		SELECT q.pool AS name, count(*) FILTER (WHERE j.state = 'queued') AS queued,
			count(*) FILTER (WHERE j.state = 'running') AS running,
			coalesce(extract(epoch FROM now() - min(q.made_at) FILTER (WHERE j.state = 'queued')), 0)::float8 AS oldestseconds
		FROM requests q JOIN jobs j ON j.request_id = q.id
		WHERE q.repository_id = $1 AND q.ended_at IS NULL GROUP BY 1`, repository); err != nil {
		return nil, err
	}
	find := func(name string) *protocol.Pool {
		for i := range rows {
			if rows[i].Name == name {
				return &rows[i]
			}
		}
		rows = append(rows, protocol.Pool{Name: name})
		return &rows[len(rows)-1]
	}
	for _, name := range seen.Protection.Pools {
		find(name)
	}
	for _, r := range seen.Runners {
		if r.State != "gone" {
			p := find(r.Pool)
			p.Runners++
			if r.State != "draining" {
				p.Free += max(0, r.Jobs-len(r.Busy))
			}
		}
	}
	for i := range rows {
		rows[i].Protected = seen.Protection.HasPool(rows[i].Name)
	}
	slices.SortFunc(rows, func(a, b protocol.Pool) int { return cmp.Compare(a.Name, b.Name) })
	return append([]protocol.Pool{}, rows...), nil
}

package blobs

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// Bucket is a [Store] in an S3-compatible bucket.
type Bucket struct {
	client *minio.Client
	name   string
	prefix string
}

// bucketLimit is the time limit for the start of a bucket's answer, per
// attempt.
const bucketLimit = 30 * time.Second

// OpenBucket opens an existing bucket. The address is https://host/bucket or
// https://host/bucket/prefix, with ?region= if the store requires one.
func OpenBucket(ctx context.Context, address, key, secret string) (*Bucket, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the address of a bucket: write it like https://host/bucket", address)
	}
	name, prefix, _ := strings.Cut(strings.Trim(u.Path, "/"), "/")
	if name == "" {
		return nil, fmt.Errorf("%q does not name a bucket: write it like https://host/bucket", address)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.ResponseHeaderTimeout, transport.MaxIdleConnsPerHost = bucketLimit, 64
	client, err := minio.New(u.Host, &minio.Options{
		Creds: credentials.NewStaticV4(key, secret, ""), Secure: u.Scheme == "https", Region: u.Query().Get("region"), Transport: transport,
		MaxRetries: 1, // see again
	})
	if err != nil {
		return nil, fmt.Errorf("the bucket's address: %w", err)
	}
	var there bool
	err = again(ctx, func() (err error) {
		there, err = client.BucketExists(ctx, name)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("the bucket %s does not answer: %w", address, err)
	}
	if !there {
		return nil, fmt.Errorf("there is no bucket %q at %s", name, u.Host)
	}
	return &Bucket{client, name, prefix}, nil
}

const (
	attempts   = 8
	firstPause = 50 * time.Millisecond // doubled after each attempt
)

// again repeats a request if that may help. The library would do so itself, but
// it rereads the same body while the previous attempt may still be reading it.
func again(ctx context.Context, do func() error) error {
	pauses := &backoff.ExponentialBackOff{InitialInterval: firstPause, RandomizationFactor: 0.2, Multiplier: 2, MaxInterval: time.Minute}
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		err := do()
		if answer := minio.ToErrorResponse(err); answer.StatusCode >= 400 && answer.StatusCode < 500 &&
			answer.StatusCode != http.StatusTooManyRequests && answer.StatusCode != http.StatusRequestTimeout {
			err = backoff.Permanent(err)
		}
		return struct{}{}, err
	}, backoff.WithBackOff(pauses), backoff.WithMaxTries(attempts))
	return err
}

func (b *Bucket) object(name string) (string, error) {
	if !fs.ValidPath(name) || name == "." {
		return "", fmt.Errorf("%q is not a valid name of an object", name)
	}
	return path.Join(b.prefix, name), nil
}

// inMemory is the size up to which an object waits in memory, instead of a
// file, until it is complete.
const inMemory = 4 << 20

// Put implements [Store]. The object is sent after its end has been read, so
// that a failed request can be repeated and a broken body is never stored.
func (b *Bucket) Put(ctx context.Context, object string, r io.Reader) error {
	name, err := b.object(object)
	if err != nil {
		return err
	}
	var head bytes.Buffer
	n, err := io.CopyN(&head, r, inMemory)
	if errors.Is(err, io.EOF) {
		return b.send(ctx, name, bytes.NewReader(head.Bytes()), n)
	}
	if err != nil {
		return err
	}
	f, err := os.CreateTemp("", "grayloft-upload-")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	size, err := io.Copy(f, io.MultiReader(&head, r))
	if err != nil {
		return err
	}
	return b.send(ctx, name, f, size)
}

func (b *Bucket) send(ctx context.Context, name string, from io.ReaderAt, size int64) error {
	opt := minio.PutObjectOptions{ContentType: "application/octet-stream"}
	opt.DisableContentSha256 = size == 0 // otherwise an empty body is sent in chunks without a declared length, which stores refuse
	return again(ctx, func() error {
		_, err := b.client.PutObject(ctx, b.name, name, io.NewSectionReader(from, 0, size), size, opt)
		return err
	})
}

// Open implements [Store]. After a cut it continues at the position of the cut.
func (b *Bucket) Open(ctx context.Context, object string, from, length int64) (io.ReadCloser, error) {
	name, err := b.object(object)
	if err != nil {
		return nil, err
	}
	p := &pieces{ctx: ctx, b: b, name: name, object: object, at: from, end: from + length}
	if length <= 0 { // an empty range cannot be requested
		err := again(ctx, func() error {
			_, err := b.client.StatObject(ctx, b.name, name, minio.StatObjectOptions{})
			return err
		})
		return p, b.absent(err, object)
	}
	if err := p.open(); err != nil {
		return nil, err
	}
	return p, nil
}

func (b *Bucket) absent(err error, object string) error {
	if minio.ToErrorResponse(err).StatusCode == http.StatusNotFound {
		return fmt.Errorf("%w: %s", ErrNotExist, object)
	}
	return err
}

// pieces reads a range of an object, in as many requests as necessary.
type pieces struct {
	ctx          context.Context
	b            *Bucket
	name, object string
	at, end      int64
	body         io.ReadCloser
	tries        int // since the last byte
}

const pieceTries = 4

func (p *pieces) open() error {
	opt := minio.GetObjectOptions{}
	if err := opt.SetRange(p.at, p.end-1); err != nil {
		return err
	}
	var body io.ReadCloser
	err := again(p.ctx, func() (err error) {
		body, _, _, err = minio.Core{Client: p.b.client}.GetObject(p.ctx, p.b.name, p.name, opt)
		return err
	})
	if minio.ToErrorResponse(err).StatusCode == http.StatusRequestedRangeNotSatisfiable {
		p.end = p.at // it ends earlier
		return nil
	}
	p.body = body
	return p.b.absent(err, p.object)
}

func (p *pieces) Read(buf []byte) (int, error) {
	for {
		if p.at >= p.end {
			return 0, io.EOF
		}
		if p.body == nil {
			if err := p.open(); err != nil {
				return 0, err
			}
			continue
		}
		n, err := p.body.Read(buf[:min(int64(len(buf)), p.end-p.at)])
		if p.at += int64(n); n > 0 {
			p.tries = 0
			return n, nil
		}
		switch {
		case errors.Is(err, io.EOF):
			return 0, io.EOF // the object is shorter
		case err != nil:
			p.body.Close()
			p.body = nil
			if p.tries++; p.tries == pieceTries || p.ctx.Err() != nil {
				return 0, err
			}
		}
	}
}

func (p *pieces) Close() error {
	if p.body == nil {
		return nil
	}
	return p.body.Close()
}

// Delete implements [Store].
func (b *Bucket) Delete(ctx context.Context, object string) error {
	name, err := b.object(object)
	if err != nil {
		return err
	}
	err = again(ctx, func() error { return b.client.RemoveObject(ctx, b.name, name, minio.RemoveObjectOptions{}) })
	if minio.ToErrorResponse(err).StatusCode == http.StatusNotFound {
		return nil
	}
	return err
}

package records

import (
	"context"
	"encoding/json"

	"github.com/klauspost/compress/zstd"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// MaxGraph is how many bytes the declarations of a repository may have as JSON.
const MaxGraph = 8 << 20

var (
	packer, _   = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(2*MaxGraph))
)

// PutGraph stores the declarations of a repository.
func (db *DB) PutGraph(ctx context.Context, repository int64, g protocol.Graph) error {
	text, name := g.Encode()
	_, err := db.ExecContext(ctx, `
		INSERT INTO graphs (repository_id, digest, document) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`,
		repository, name[:], packer.EncodeAll(text, nil))
	return err
}

// Graph returns declarations by their digest.
func (db *DB) Graph(ctx context.Context, repository int64, name digest.Digest) (g protocol.Graph, err error) {
	var packed []byte
	if err := db.GetContext(ctx, &packed, `
		SELECT document FROM graphs WHERE repository_id = $1 AND digest = $2`, repository, name[:]); err != nil {
		return g, missing(err, "graph "+name.String())
	}
	text, err := unpacker.DecodeAll(packed, nil)
	if err != nil {
		return g, err
	}
	return g, json.Unmarshal(text, &g)
}

// LastGraph returns the digest of the declarations of the newest run on the
// trusted shelf, or else of any run; zero if none recorded them.
func (db *DB) LastGraph(ctx context.Context, repository int64) (digest.Digest, error) {
	var list [][]byte
	err := db.SelectContext(ctx, &list, `
		(SELECT r.graph FROM runs r JOIN graphs g ON g.repository_id = $1 AND g.digest = r.graph
			WHERE r.repository_id = $1 AND r.shelf = 'trusted' ORDER BY r.began DESC LIMIT 1)
		UNION ALL
		(SELECT r.graph FROM runs r JOIN graphs g ON g.repository_id = $1 AND g.digest = r.graph
			WHERE r.repository_id = $1 ORDER BY r.began DESC LIMIT 1)`, repository)
	if err != nil || len(list) == 0 {
		return digest.Digest{}, err
	}
	return asDigest(list[0]), nil
}

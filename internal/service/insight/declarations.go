// Package insight computes what the console and the advice show from the
// records of runs: rollups, balances, the behaviour of tasks. It reads and writes
// the database through package records, and decides nothing about runs.
package insight

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"testing/fstest"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// Reader answers questions about one repository.
type Reader struct {
	DB         *records.DB
	Repository int64
	Now        time.Time
	Graph      *graph.Graph // how tasks are declared; nil if that is not known
}

// Limits of the declarations that the service loads: a client may send any.
const (
	maxProjects = 4000
	maxTasks    = 20_000
	keptGraphs  = 16
)

// Declarations loads the declarations that runs recorded, and keeps the last few.
// It is safe for concurrent use.
type Declarations struct {
	db   *records.DB
	one  sync.Mutex // loading takes memory: one at a time
	kept *lru.Cache[graphKey, *graph.Graph]
}

type graphKey struct {
	repository int64
	digest     digest.Digest
}

// NewDeclarations returns the declarations of a database.
func NewDeclarations(db *records.DB) *Declarations {
	kept, err := lru.New[graphKey, *graph.Graph](keptGraphs)
	if err != nil {
		panic(err) // only for a negative size
	}
	return &Declarations{db: db, kept: kept}
}

// Graph returns the graph that a run recorded. The error wraps
// [records.ErrNotExist] if it was not recorded.
func (d *Declarations) Graph(ctx context.Context, repository int64, name digest.Digest) (*graph.Graph, error) {
	if name.IsZero() {
		return nil, fmt.Errorf("%w: the run recorded no declarations", records.ErrNotExist)
	}
	key := graphKey{repository, name}
	if g, ok := d.kept.Get(key); ok {
		return g, nil
	}
	d.one.Lock()
	defer d.one.Unlock()
	if g, ok := d.kept.Get(key); ok {
		return g, nil
	}
	recorded, err := d.db.Graph(ctx, repository, name)
	if err != nil {
		return nil, err
	}
	g, err := load(recorded)
	if err == nil {
		d.kept.Add(key, g)
	}
	return g, err
}

// Last returns the newest graph of the trusted shelf, or else of any run; nil if
// there is none.
func (d *Declarations) Last(ctx context.Context, repository int64) (*graph.Graph, error) {
	name, err := d.db.LastGraph(ctx, repository)
	if err != nil || name.IsZero() {
		return nil, err
	}
	return d.Graph(ctx, repository, name)
}

// Check tells whether declarations are valid and within the limits.
func (d *Declarations) Check(recorded protocol.Graph) error {
	d.one.Lock()
	defer d.one.Unlock()
	_, err := load(recorded)
	return err
}

// load builds the graph of recorded declarations.
func load(recorded protocol.Graph) (*graph.Graph, error) {
	files := fstest.MapFS{}
	for _, f := range recorded.Files {
		files[f.Path] = &fstest.MapFile{Data: []byte(f.Text)}
	}
	for _, d := range recorded.Dirs {
		files[d] = &fstest.MapFile{Mode: fs.ModeDir}
	}
	repo, problems, err := decl.Load(files, recorded.Base)
	if err != nil {
		return nil, err
	}
	if len(problems) > 0 {
		return nil, problems
	}
	tasks := 0
	for _, p := range repo.Projects {
		tasks += len(p.Tasks)
	}
	if len(repo.Projects) > maxProjects || tasks > maxTasks {
		return nil, fmt.Errorf("they have %d projects and %d tasks; at most %d and %d are recorded",
			len(repo.Projects), tasks, maxProjects, maxTasks)
	}
	g, problems := graph.Build(repo)
	if len(problems) > 0 {
		return nil, problems.Sorted()
	}
	return g, nil
}

// isUnknown tells whether an error says that nothing was recorded.
func isUnknown(err error) bool { return errors.Is(err, records.ErrNotExist) }

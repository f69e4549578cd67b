package fleet

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// Register makes a runner known. Its token must be for the pool.
func (f *Fleet) Register(ctx context.Context, t records.Token, h protocol.RunnerHello) (known protocol.RunnerKnown, err error) {
	if err := fleet.CheckPool(h.Pool); err != nil {
		return known, records.InvalidError{Err: err}
	}
	if !slices.Contains(t.Serves, h.Pool) {
		return known, ConflictError{fmt.Sprintf("the token %q is not for the pool %q: make one with --serve %s", t.Name, h.Pool, h.Pool)}
	}
	p, err := f.Protection(ctx, t.RepositoryID)
	if err != nil {
		return known, err
	}
	text, err := json.Marshal(h)
	if err != nil {
		return known, err
	}
	if h.Replaces > 0 {
		// The jobs of its earlier start go to others at once, not after their lease.
		if err := f.Leave(ctx, t, h.Replaces); err != nil && !errors.Is(err, records.ErrNotExist) {
			return known, err
		}
	}
	known.Protected, known.Lease = p.HasPool(h.Pool), f.Lease.Seconds()
	return known, f.DB.GetContext(ctx, &known.ID, `
		INSERT INTO runners (repository_id, token_id, pool, hello) VALUES ($1, $2, $3, $4) RETURNING id`,
		t.RepositoryID, t.ID, h.Pool, text)
}

// Leave says that a runner ends. Jobs that it still has go to others.
func (f *Fleet) Leave(ctx context.Context, t records.Token, runner int64) error {
	pool, err := f.report(ctx, t, runner, protocol.WorkQuestion{})
	if err == nil && pool != "" {
		_, err = f.DB.ExecContext(ctx, `UPDATE runners SET left_at = now() WHERE id = $1`, runner)
	}
	return err
}

// Next takes a runner's report, and returns a job for it, or jobs that it has to stop, as
// soon as there is one of these; after a while, nothing.
func (f *Fleet) Next(ctx context.Context, t records.Token, runner int64, q protocol.WorkQuestion) (protocol.WorkAnswer, error) {
	pool, err := f.report(ctx, t, runner, q)
	if err != nil {
		return protocol.WorkAnswer{}, err
	}
	queue := queueOf(t.RepositoryID, pool)
	s := &seeker{runner: runner, has: q.Jobs, got: make(chan *protocol.Work, 1)}
	if q.Free > 0 && !q.Draining {
		f.idle.enter(queue, s)
		defer func() {
			time.AfterFunc(lingering, func() {
				limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
				defer cancel()
				f.leaveIfIdle(limited, queue)
			})
		}()
		if err := f.serve(queue); err != nil {
			f.idle.leave(queue, s)
			return protocol.WorkAnswer{}, err
		}
	}
	answer, err := f.await(ctx, t.RepositoryID, s, q.Jobs)
	if q.Free > 0 && !q.Draining && answer.Job == nil && !f.idle.leave(queue, s) {
		answer.Job = <-s.got // it was just being handed over
	}
	if answer.Job != nil {
		err = nil // whatever else failed, this runner has a job now
	}
	return answer, err
}

// await waits for a job, for jobs that have to be stopped, or for the end of the hold.
func (f *Fleet) await(ctx context.Context, repository int64, s *seeker, has []int64) (answer protocol.WorkAnswer, err error) {
	hold := time.NewTimer(min(protocol.RunnerHold, f.Lease/3))
	defer hold.Stop()
	for again := true; again; {
		answer, again, err = f.awaitOnce(ctx, repository, s, has, hold.C)
	}
	return answer, err
}

func (f *Fleet) awaitOnce(
	ctx context.Context, repository int64, s *seeker, has []int64, hold <-chan time.Time,
) (answer protocol.WorkAnswer, again bool, err error) {
	news, leave := f.wakes.next(repositoryKey(repository))
	defer leave()
	if answer.Cancel, answer.Gone, err = f.toStop(ctx, s.runner, has); err != nil || len(answer.Cancel)+len(answer.Gone) > 0 {
		return answer, false, err
	}
	select {
	case answer.Job = <-s.got:
	case <-news:
		return answer, true, nil
	case <-hold:
	case <-f.closed:
	case <-ctx.Done():
		err = ctx.Err()
	}
	return answer, false, err
}

// report renews the leases of a runner's jobs, and returns its pool. Jobs that the service
// gave to it and that it does not have, because an answer was lost, go to others.
func (f *Fleet) report(ctx context.Context, t records.Token, runner int64, q protocol.WorkQuestion) (pool string, err error) {
	err = f.DB.InTx(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &pool, `
			UPDATE runners SET seen_at = now(), draining = $4, free = $5, left_at = NULL
			WHERE id = $1 AND repository_id = $2 AND token_id = $3 RETURNING pool`, runner, t.RepositoryID, t.ID, q.Draining, q.Free)
		if errors.Is(err, sql.ErrNoRows) {
			return missing("runner", runner)
		}
		if err != nil {
			return err
		}
		jobs := append([]int64{}, q.Jobs...)
		var lost []int64
		if err := tx.SelectContext(ctx, &lost, `
			SELECT id FROM jobs WHERE runner_id = $1 AND state = 'running' AND NOT id = ANY($2)`, runner, jobs); err != nil {
			return err
		}
		for _, job := range lost {
			if err := f.lose(ctx, tx, job, loss{"it does not have the job", true}); err != nil {
				return err
			}
		}
		_, err = tx.ExecContext(ctx, `
			UPDATE jobs SET lease_until = now() + make_interval(secs => $3) WHERE runner_id = $1 AND state = 'running' AND id = ANY($2)`,
			runner, jobs, f.Lease.Seconds())
		return err
	})
	return pool, err
}

// toStop returns those of a runner's jobs that were cancelled, and those that are not its
// any more.
func (f *Fleet) toStop(ctx context.Context, runner int64, has []int64) (cancel, gone []int64, err error) {
	if len(has) == 0 {
		return nil, nil, nil
	}
	var rows []struct {
		ID        int64 `db:"id"`
		Cancelled bool  `db:"cancelled"`
	}
	if err := f.DB.SelectContext(ctx, &rows, `
		SELECT j.id, q.cancelled_by <> '' AS cancelled FROM jobs j JOIN requests q ON q.id = j.request_id
		WHERE j.runner_id = $1 AND j.state = 'running' AND j.id = ANY($2)`, runner, has); err != nil {
		return nil, nil, err
	}
	still := map[int64]bool{}
	for _, r := range rows {
		still[r.ID] = true
		if r.Cancelled {
			cancel = append(cancel, r.ID)
		}
	}
	for _, id := range has {
		if !still[id] {
			gone = append(gone, id)
		}
	}
	return cancel, gone, nil
}

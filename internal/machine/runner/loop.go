package runner

import (
	"context"
	"errors"
	"fmt"
	"time"

	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/protocol"
)

// loop owns the jobs of a runner.
type loop struct {
	*Runner
	jobs     map[int64]*job
	taken    int           // jobs so far
	ended    chan int64    // jobs
	answers  chan answer   // of the service
	asking   func()        // ends the question that is open; nil: none is
	askFree  int           // what that question said
	contact  time.Time     // the last answer
	rest     time.Time     // until then it takes no job: something is wrong here
	retry    time.Duration // until the next question, after a failed one
	fullSaid bool
}

type answer struct {
	protocol.WorkAnswer
	err error
}

// run is the loop. It ends when no job runs and none is wanted.
func (l *loop) run(ctx context.Context, kill <-chan struct{}) {
	l.contact = time.Now()
	watch := time.NewTicker(time.Second)
	defer watch.Stop()
	done := ctx.Done()
	for {
		draining := ctx.Err() != nil || l.MaxJobs > 0 && l.taken >= l.MaxJobs
		if draining && len(l.jobs) == 0 {
			l.endQuestion()
			return
		}
		if l.asking == nil {
			l.ask(draining)
		}
		select {
		case a := <-l.answers:
			l.asking()
			l.asking = nil
			l.hear(a)
		case id := <-l.ended:
			delete(l.jobs, id)
			if l.asking != nil && l.askFree == 0 {
				l.endQuestion() // nothing can be handed over meanwhile
			}
		case <-watch.C:
			l.checkContact()
		case <-done:
			done = nil
			l.Say(fmt.Sprintf("takes no more jobs; %d to finish", len(l.jobs)))
			l.endQuestion()
		case <-kill:
			kill = nil
			l.stopAll(errEnding)
		}
	}
}

// endQuestion ends the open question.
func (l *loop) endQuestion() {
	if l.asking != nil {
		l.asking()
		<-l.answers
		l.asking = nil
	}
}

// ask reports to the service, and asks for work.
func (l *loop) ask(draining bool) {
	q := protocol.WorkQuestion{Jobs: []int64{}, Draining: draining, Free: max(0, l.Hello.Jobs-len(l.jobs))}
	for id := range l.jobs {
		q.Jobs = append(q.Jobs, id)
	}
	if l.MaxJobs > 0 {
		q.Free = min(q.Free, l.MaxJobs-l.taken)
	}
	if draining || time.Now().Before(l.rest) || l.isFull() {
		q.Free = 0
	}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	l.asking, l.askFree = cancel, q.Free
	wait := l.retry
	go func() {
		var a answer
		if pause(ctx, wait) {
			a.WorkAnswer, a.err = l.service.NextWork(ctx, l.known.Load().ID, q)
		} else {
			a.err = ctx.Err()
		}
		l.answers <- a
	}()
}

// leastFree is how many bytes must be free on the disk before a job is taken.
const leastFree = 512 << 20

func (l *loop) isFull() bool {
	free, known := freeBytes(l.Dir)
	isFull := known && free < leastFree
	if isFull && !l.fullSaid {
		l.Say(fmt.Sprintf("takes no jobs: only %d MB are free on the disk of %s", free>>20, l.Dir))
	}
	l.fullSaid = isFull
	return isFull
}

// hear acts on an answer of the service.
func (l *loop) hear(a answer) {
	switch {
	case a.err == nil:
		l.contact, l.retry = time.Now(), 0
	case errors.Is(a.err, context.Canceled):
		return
	case errors.Is(a.err, protocol.ErrGone): // the service forgot this runner
		l.stopAll(errGone)
		limited, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		if l.introduce(limited) == nil {
			return
		}
		fallthrough
	default:
		if l.retry == 0 {
			l.Say("the service does not answer: " + a.err.Error())
		}
		l.retry = min(max(time.Second, 2*l.retry), maxPause/3)
		return
	}
	for _, id := range a.Cancel {
		l.stop(id, errCancelled)
	}
	for _, id := range a.Gone {
		l.stop(id, errGone)
	}
	if a.Job != nil {
		l.take(*a.Job)
	}
}

func (l *loop) stop(id int64, why error) {
	if j, ok := l.jobs[id]; ok {
		j.stop(why)
	}
}

func (l *loop) stopAll(why error) {
	for id := range l.jobs {
		l.stop(id, why)
	}
}

// checkContact stops all jobs if the service has not been reached for so long that it may give
// them to others.
func (l *loop) checkContact() {
	lease := time.Duration(l.known.Load().Lease * float64(time.Second))
	if len(l.jobs) > 0 && time.Since(l.contact) > lease*4/5 {
		l.Say("lost contact with the service: stops its jobs, which go to other runners")
		l.stopAll(errContact)
		l.contact = time.Now()
	}
}

// take starts a job.
func (l *loop) take(w protocol.Work) {
	if _, has := l.jobs[w.Job]; has {
		return // it is listed as this runner's in the next question
	}
	ctx, stop := context.WithCancelCause(context.Background())
	l.jobs[w.Job] = &job{w, stop}
	l.taken++
	l.Say(fmt.Sprintf("request %d: %s", w.Request, describe(w.Ask)))
	go func() {
		defer stop(nil)
		end := l.carryOut(ctx, w)
		l.report(ctx, w, end)
		if end.State == fleet.Lost {
			pause(ctx, restAfterFault)
		}
		l.ended <- w.Job
	}()
}

// restAfterFault is how long a place stays empty after something was wrong with this machine,
// so that another runner gets the job.
const restAfterFault = 3 * time.Second

func describe(a protocol.Ask) string {
	words := "run"
	if a.Preview {
		words = "plan"
	}
	for _, task := range a.Tasks {
		words += " " + task
	}
	if a.Pick != "" {
		words += " --pick " + a.Pick
	}
	at := a.Branch
	if a.Commit != "" {
		at += fmt.Sprintf(" %.8s", a.Commit)
	}
	if a.Changes != nil {
		at += " with local changes"
	}
	return words + " (" + at + ")"
}

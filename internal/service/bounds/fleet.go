package bounds

import (
	"regexp"
	"strings"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/protocol"
)

// Ask checks a request for a run.
func Ask(in protocol.Ask) error {
	var c checker
	c.text("pool", in.Pool, MaxName)
	c.text("branch", in.Branch, MaxName)
	if in.Commit != "" && !commitID.MatchString(in.Commit) {
		c.refuse("commit", "must be the full id of a commit")
	}
	if in.Branch != "" {
		c.branch(in.Branch)
	}
	c.word("since", in.Since)
	c.text("pick", in.Pick, MaxText)
	c.text("since", in.Since, MaxText)
	for name, list := range map[string][]string{"tasks": in.Tasks, "modes": in.Modes, "sets": in.Sets, "args": in.Args} {
		c.texts(name, list, 1000)
	}
	for _, task := range in.Tasks {
		c.word("tasks", task)
	}
	c.number("spread", float64(in.Spread), 0, 100)
	c.number("priority", float64(in.Priority), 0, protocol.PriorityLow)
	if ch := in.Changes; ch != nil {
		c.required("changes.blob", ch.Blob)
		c.number("changes.bytes", float64(ch.Bytes), 1, protocol.MaxChanges)
		c.number("changes.files", float64(ch.Files), 0, MaxCount)
		for name, id := range map[string]string{"changes.state": ch.State, "changes.tree": ch.Tree} {
			if !commitID.MatchString(id) {
				c.refuse(name, "must be the full id of an object of git")
			}
		}
	}
	return c.err
}

// commitID is the id of an object of git, by SHA-1 or SHA-256.
var commitID = regexp.MustCompile(`^([0-9a-f]{40}|[0-9a-f]{64})$`)

func (c *checker) branch(name string) {
	if err := fleet.CheckBranch(name); err != nil {
		c.refuse("branch", "%v", err)
	}
}

// word refuses what a program would take for an option.
func (c *checker) word(field, s string) {
	if strings.HasPrefix(s, "-") {
		c.refuse(field, "must not begin with a hyphen")
	}
}

// RunnerHello checks what a runner says of itself.
func RunnerHello(in protocol.RunnerHello) error {
	var c checker
	for name, s := range map[string]string{"name": in.Name, "host": in.Host, "pool": in.Pool, "place": in.Place, "platform": in.Platform} {
		c.text(name, s, MaxName)
	}
	if in.Name == "" {
		c.refuse("name", "is required")
	}
	c.number("slots", float64(in.Slots), 1, 10_000)
	c.number("jobs", float64(in.Jobs), 1, 1000)
	return c.err
}

// WorkQuestion checks a runner's report.
func WorkQuestion(in protocol.WorkQuestion) error {
	var c checker
	c.number("free", float64(in.Free), 0, 1000)
	if len(in.Jobs) > 1000 {
		c.refuse("jobs", "has %d elements; at most 1000 are allowed", len(in.Jobs))
	}
	return c.err
}

// JobStart checks what a runner says when a job starts.
func JobStart(in protocol.JobStart) error {
	var c checker
	c.number("attempt", float64(in.Attempt), 0, MaxCount)
	c.text("ref", in.Ref, MaxName)
	if !commitID.MatchString(in.Commit) {
		c.refuse("commit", "must be the full id of a commit")
	}
	return c.err
}

// JobLines checks lines that a job printed.
func JobLines(in protocol.JobLines) error {
	var c checker
	c.number("attempt", float64(in.Attempt), 0, MaxCount)
	c.number("first", float64(in.First), 0, 1e9)
	if len(in.Lines) > protocol.MaxChunkLines {
		c.refuse("lines", "has %d elements; at most %d are allowed", len(in.Lines), protocol.MaxChunkLines)
		return c.err
	}
	for _, l := range in.Lines {
		c.text("lines", l, protocol.MaxLineBytes)
	}
	return c.err
}

// JobEnd checks how a job ended.
func JobEnd(in protocol.JobEnd) error {
	var c checker
	switch in.State {
	case fleet.Passed, fleet.Failed, fleet.Cancelled, fleet.Lost, fleet.Queued:
	default:
		c.refuse("state", "%.20q is not the end of a job", in.State)
	}
	c.number("attempt", float64(in.Attempt), 0, MaxCount)
	c.number("exit", float64(in.Exit), -1, 255)
	c.text("message", in.Message, MaxText)
	c.text("plan", in.Plan, protocol.MaxPlan)
	return c.err
}

// Push checks the announcement of a push.
func Push(in protocol.Push) error {
	var c checker
	c.text("branch", in.Branch, MaxName)
	c.branch(in.Branch)
	if !commitID.MatchString(in.Commit) {
		c.refuse("commit", "must be the full id of a commit")
	}
	return c.err
}

var joinID = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)

// JoinHello checks how a run takes part in a run of several machines.
func JoinHello(in protocol.JoinHello) error {
	var c checker
	if !joinID.MatchString(in.ID) {
		c.refuse("id", "must have 1 to 64 letters, digits, dots, underscores and hyphens")
	}
	if !runID.MatchString(in.Run) {
		c.refuse("run", "must have 8 to 64 lower-case letters, digits and hyphens")
	}
	c.required("plan", in.Plan)
	return c.err
}

// maxIngredients is how many ingredients of a task are named at most.
const maxIngredients = 2000

// JoinAsk checks what a member of a join asks before it runs a task.
func JoinAsk(in protocol.JoinAsk) error {
	var c checker
	c.required("key", in.Key)
	c.text("run", in.Run, MaxName)
	c.text("task", in.Task, MaxText)
	c.text("place", in.Place, MaxName)
	c.number("seconds", in.Seconds, 0, MaxSeconds)
	if len(in.Ingredients) > maxIngredients {
		c.refuse("ingredients", "has %d elements; at most %d are allowed", len(in.Ingredients), maxIngredients)
		return c.err
	}
	for name, value := range in.Ingredients {
		c.text("ingredients", name, MaxText)
		c.text("ingredients", value, MaxName)
	}
	return c.err
}

// JoinReport checks how tasks of a member of a join stand.
func JoinReport(in protocol.JoinReport) error {
	var c checker
	c.text("run", in.Run, MaxName)
	c.text("message", in.Message, MaxMessage)
	c.texts("tasks", in.Tasks, MaxRefs)
	switch in.State {
	case decide.JoinRunning, decide.JoinShared, decide.JoinUnshared, decide.JoinFailed:
	default:
		c.refuse("state", "%.20q is not the state of a task", in.State)
	}
	return c.err
}

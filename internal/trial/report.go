package trial

import "encoding/json"

// Report is what run --format json prints.
type Report struct {
	Run    string         `json:"run"`
	OK     bool           `json:"ok"`
	Tasks  []Task         `json:"tasks"`
	Totals map[string]int `json:"totals"`
	Answer Answer         `json:"-"`
}

// Task is one task of a report.
type Task struct {
	Task    string   `json:"task"`
	Outcome string   `json:"outcome"`
	Reason  *string  `json:"reason"`
	Detail  []string `json:"detail"`
	Message string   `json:"message"`
	Key     string   `json:"key"`
	Picked  bool     `json:"picked"`
	On      []string `json:"on"` // in a plan
	Drift   []struct {
		Add           bool
		Key, Line, At string
	}
	MadeBy *struct {
		Name, Place, Host, Run string
	} `json:"made_by"`
}

// Run runs tasks and returns the report.
func (r *Repo) Run(args ...string) Report {
	r.T.Helper()
	a := r.Grayloft(append([]string{"run", "--format", "json"}, args...)...)
	var rep Report
	if err := json.Unmarshal([]byte(a.Out), &rep); err != nil {
		r.T.Fatalf("run %v: exit %d, %v\n%s\n%s", args, a.Code, err, a.Out, a.Err)
	}
	rep.Answer = a
	return rep
}

// Plan plans tasks and returns the report.
func (r *Repo) Plan(args ...string) Report {
	r.T.Helper()
	a := r.Grayloft(append([]string{"plan", "--format", "json"}, args...)...)
	var rep struct {
		Tasks  []Task         `json:"tasks"`
		Totals map[string]int `json:"totals"`
	}
	if err := json.Unmarshal([]byte(a.Out), &rep); err != nil {
		r.T.Fatalf("plan %v: exit %d, %v\n%s\n%s", args, a.Code, err, a.Out, a.Err)
	}
	return Report{Tasks: rep.Tasks, Totals: rep.Totals, Answer: a}
}

// Of returns what the report says of a task.
func (p Report) Of(task string) Task {
	for _, t := range p.Tasks {
		if t.Task == task {
			return t
		}
	}
	return Task{Outcome: "not in the run"}
}

// Outcomes returns the outcomes by task.
func (p Report) Outcomes() map[string]string {
	out := map[string]string{}
	for _, t := range p.Tasks {
		out[t.Task] = t.Outcome
	}
	return out
}

// Ran returns the tasks that ran, with their reasons.
func (p Report) Ran() map[string]string {
	out := map[string]string{}
	for _, t := range p.Tasks {
		if t.Outcome == "ran" || t.Outcome == "failed" {
			out[t.Task] = ""
			if t.Reason != nil {
				out[t.Task] = *t.Reason
			}
		}
	}
	return out
}

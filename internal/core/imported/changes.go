package imported

import (
	"fmt"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
)

// Change is a key of a task's resolved declaration that differs between two graphs.
type Change struct {
	Tasks  []string `json:"tasks"` // addresses, sorted
	Key    string   `json:"key"`
	Before string   `json:"before"` // empty: it is not given, or the task is new
	After  string   `json:"after"`
}

// Changes returns how the resolved declarations of tasks differ, alike ones together. A
// task that only one of the graphs has differs in the key "task".
func Changes(before, after *graph.Graph) (out []Change) {
	addrs := map[string]bool{}
	for _, g := range []*graph.Graph{before, after} {
		for _, t := range g.Tasks {
			addrs[t.Addr()] = true
		}
	}
	note := func(addr, key, was, is string) {
		if was == is {
			return
		}
		i := slices.IndexFunc(out, func(c Change) bool { return c.Key == key && c.Before == was && c.After == is })
		if i < 0 {
			i = len(out)
			out = append(out, Change{Key: key, Before: was, After: is})
		}
		out[i].Tasks = append(out[i].Tasks, addr)
	}
	for addr := range addrs {
		old, now := before.Task(addr), after.Task(addr)
		if old == nil || now == nil {
			note(addr, "task", there(old), there(now))
			continue
		}
		was, is := resolved(old), resolved(now)
		for i := range was {
			note(addr, was[i].key, was[i].value, is[i].value)
		}
	}
	for i := range out {
		slices.Sort(out[i].Tasks)
	}
	slices.SortFunc(out, func(a, b Change) int { return strings.Compare(a.Tasks[0]+" "+a.Key, b.Tasks[0]+" "+b.Key) })
	return out
}

func there(t *graph.Task) string {
	if t == nil {
		return ""
	}
	return "declared"
}

type field struct{ key, value string }

// resolved returns the keys of a task with its kinds folded in, always the same ones in
// the same order.
func resolved(t *graph.Task) []field {
	d := t.Decl
	fields := []field{{"run", d.Run.String()}}
	for _, l := range []struct {
		key  string
		list decl.List
	}{
		{"reads", d.Reads}, {"writes", d.Writes}, {"after", d.After},
		{"env", d.Env}, {"env_unkeyed", d.EnvUnkeyed}, {"secrets", d.Secrets},
		{"probes", d.Probes}, {"settings", d.Settings}, {"opens", d.Opens},
		{"scratch", d.Scratch}, {"reports", d.Reports}, {"locks", d.Locks},
	} {
		value := ""
		if l.list.Given {
			value = fmt.Sprintf("%q", l.list.Texts())
			value = strings.ReplaceAll(value, `" "`, `", "`)
		}
		fields = append(fields, field{l.key, value})
	}
	for _, it := range []struct {
		key  string
		item decl.Item
	}{
		{"reuse", d.Reuse}, {"isolation", d.Isolation}, {"network", d.Network}, {"timeout", d.Timeout}, {"retries", d.Retries},
		{"slots", d.Slots}, {"portable", d.Portable},
	} {
		fields = append(fields, field{it.key, it.item.Text})
	}
	return fields
}

package keep

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/tasklog"
)

// mentionShortSecrets says that a secret is too short to be found in logs and
// outputs.
func (k *Keeper) mentionShortSecrets(t *graph.Task) {
	for _, v := range t.Secrets {
		if value, ok := k.Look.Env.Value(v); ok && value != "" && len(value) < tasklog.Shortest {
			k.Notices.WarnOnce("secret "+v.Name, fmt.Sprintf(
				"%s: the secret %s has fewer than %d characters: it is neither masked in logs nor looked for in outputs",
				t.Addr(), v.Name, tasklog.Shortest))
		}
	}
}

// mentionNoOutputs says that a task wrote none of the files that it declares: a wrong pattern would
// show only where its result is reused.
func (k *Keeper) mentionNoOutputs(t *graph.Task, list listing.List) {
	if len(list) == 0 && len(t.Writes) > 0 && isCacheable(t) {
		k.Notices.Warn(fmt.Sprintf("%s: no file matches its writes (%s), so reusing its result gives no files: "+
			"correct them, or declare writes = [] if it makes none", t.Addr(), strings.Join(t.Decl.Writes.Texts(), ", ")))
	}
}

// mentionState names a file beside the project's own that changed while an open task ran and that
// nothing declares, such as one in which a compiler notes what it has made: outputs are cleared before
// the next run, which would then make only a part of them. Git ignores the file; otherwise the result
// would not be cached.
func (k *Keeper) mentionState(m Made, list listing.List) {
	if m.Task.Isolation == decl.Sealed || len(list) == 0 {
		return
	}
	p := m.Task.Project
	entries, err := os.ReadDir(filepath.Join(k.Work.State.Root, filepath.FromSlash(p.Dir)))
	if err != nil || len(entries) > mostBeside {
		return // what is wrong with it, the next look at it says
	}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() || info.ModTime().Before(m.Run.Began.Add(-coarse)) {
			continue
		}
		file := path.Join(p.Dir, e.Name())
		if p.Writes(file) || m.Task.OpensFile(file) || m.Task.ReadsFile(file) {
			continue
		}
		k.Notices.WarnOnce("state "+file, fmt.Sprintf("%s: %s changed while it ran, and nothing declares it: add it to writes if a run "+
			"makes less when this file is there, as some compilers do; otherwise add it to scratch", m.Task.Addr(), file))
	}
}

// mostBeside is how many entries of a project's directory are looked at, after each task that ran.
const mostBeside = 500

// coarse is how much earlier than the clock the times of new files may be.
const coarse = 10 * time.Millisecond

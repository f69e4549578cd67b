package adopt

import "testing"

// What git tracks is no output: a checkout brings it.
func TestATaskThatWritesTrackedFilesIsNeverReused(t *testing.T) {
	for tracked, want := range map[string]Reusability{"lib/a.js": NeverReusable, "libs/a.js": Reusable} {
		r := repo(map[string]string{
			"package.json": `{"name": "quay", "scripts": {"build": "node build.mjs --out-dir lib"}}`, "build.mjs": "", "lib/a.js": "", "libs/a.js": "",
		})
		r.Tracked = []string{"package.json", "build.mjs", tracked}
		s, _ := propose(t, r, Choices{})
		build := s.of(".").Task("build")
		if build.Sort != want || (build.Writes == nil) != (want == NeverReusable) {
			t.Errorf("%s is tracked: %+v", tracked, build)
		}
	}
}

package registry

import (
	"cmp"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/mod/module"
	"golang.org/x/mod/semver"
)

// goSettings are what go env would say (https://go.dev/ref/mod#environment-variables),
// from the environment and the person's file.
type goSettings struct {
	proxies string
	private string // patterns of modules that no proxy is asked about
	logins  logins
}

func loadGo(env func(string) string, home string) goSettings {
	file := env("GOENV")
	if file == "" {
		file = filepath.Join(cmp.Or(env("XDG_CONFIG_HOME"), filepath.Join(home, ".config")), "go", "env")
	}
	stored := map[string]string{}
	if text, err := os.ReadFile(file); err == nil && file != "off" {
		for line := range strings.Lines(string(text)) {
			if key, value, ok := strings.Cut(strings.TrimSpace(line), "="); ok {
				stored[key] = value
			}
		}
	}
	get := func(key string) string { return cmp.Or(env(key), stored[key]) }
	return goSettings{
		proxies: cmp.Or(get("GOPROXY"), "https://proxy.golang.org,direct"),
		private: cmp.Or(get("GONOPROXY"), get("GOPRIVATE")),
		logins:  readNetrc(cmp.Or(env("NETRC"), filepath.Join(home, ".netrc"))),
	}
}

// requests returns what to ask which proxies, in order.
func (s goSettings) requests(name string) (out []request, err error) {
	escaped, err := module.EscapePath(name)
	if err != nil {
		return nil, &problem{where: "go", err: errors.New("it is not the path of a module"), known: true}
	}
	if module.MatchPrefixPatterns(s.private, name) {
		err := errors.New("GOPRIVATE or GONOPROXY keeps it from proxies, and repositories are not asked")
		return nil, &problem{where: "go", err: err, known: true}
	}
	rest := s.proxies
	for rest != "" {
		end := strings.IndexAny(rest, ",|")
		one, after := rest, byte(',')
		if end >= 0 {
			one, after, rest = rest[:end], rest[end], rest[end+1:]
		} else {
			rest = ""
		}
		one = strings.TrimSuffix(strings.TrimSpace(one), "/")
		if one == "off" || one == "direct" || one == "" {
			break
		}
		out = append(out, request{
			base: one, path: escaped + "/@v/list", parse: parseList, header: s.logins.add, anyFail: after == '|',
		})
	}
	if len(out) == 0 {
		return nil, &problem{where: "go", err: errors.New("GOPROXY=" + s.proxies + " names no proxy"), known: true}
	}
	return out, nil
}

// parseList reads the versions of a list, one on each line.
func parseList(body []byte) (out []string, err error) {
	for line := range strings.Lines(string(body)) {
		if line = strings.TrimSpace(line); semver.IsValid(line) {
			out = append(out, line)
		}
	}
	if len(out) == 0 && len(body) > 0 {
		return nil, errors.New("its answer is not a list of versions")
	}
	return out, nil
}

// logins are names and passwords by host.
type logins map[string][2]string

// readNetrc reads the person's logins:
// https://www.gnu.org/software/inetutils/manual/html_node/The-_002enetrc-file.html.
func readNetrc(file string) logins {
	out := logins{}
	text, err := os.ReadFile(file)
	if err != nil {
		return out
	}
	host := ""
	for pair := range slices.Chunk(strings.Fields(string(text)), 2) {
		if len(pair) < 2 {
			break
		}
		login := out[host]
		switch pair[0] {
		case "machine":
			host = pair[1]
			continue
		case "login":
			login[0] = pair[1]
		case "password":
			login[1] = pair[1]
		}
		out[host] = login
	}
	delete(out, "")
	return out
}

func (l logins) add(r *http.Request) {
	if login, ok := l[r.URL.Hostname()]; ok && isSafe(r.URL) {
		r.SetBasicAuth(login[0], login[1])
	}
}

package registry

import (
	"cmp"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"

	"golang.org/x/mod/semver"

	"grayloft.example/grayloft/internal/core/pattern"
)

// npmSettings are what the person's .npmrc says, and which registries that of the
// repository names: https://docs.npmjs.com/cli/configuring-npm/npmrc.
type npmSettings struct {
	values      map[string]string // registry, @scope:registry
	credentials map[string]string // //host/path/:key
}

var variable = pattern.New(`\$\{([A-Za-z_][A-Za-z0-9_]*)\}`)

func loadNPM(env func(string) string, home, repository string) npmSettings {
	s := npmSettings{map[string]string{}, map[string]string{}}
	expand := func(text string) string {
		return variable.ReplaceAllStringFunc(text, func(v string) string { return env(v[2 : len(v)-1]) })
	}
	own := cmp.Or(env("NPM_CONFIG_USERCONFIG"), env("npm_config_userconfig"), filepath.Join(home, ".npmrc"))
	readNPMRC(own, func(key, value string) {
		if strings.HasPrefix(key, "//") {
			s.credentials[key] = expand(value)
		} else {
			s.values[key] = expand(value)
		}
	})
	readNPMRC(filepath.Join(repository, ".npmrc"), func(key, value string) {
		if key == "registry" || strings.HasSuffix(key, ":registry") {
			s.values[key] = value
		}
	})
	if r := cmp.Or(env("npm_config_registry"), env("NPM_CONFIG_REGISTRY")); r != "" {
		s.values["registry"] = r
	}
	return s
}

func readNPMRC(file string, each func(key, value string)) {
	text, err := os.ReadFile(file)
	if err != nil {
		return
	}
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSpace(line)
		key, value, ok := strings.Cut(line, "=")
		if ok && !strings.HasPrefix(line, ";") && !strings.HasPrefix(line, "#") {
			each(strings.TrimSpace(key), strings.Trim(strings.TrimSpace(value), `"'`))
		}
	}
}

// requests returns what to ask the registry of a package.
func (s npmSettings) requests(name string) ([]request, error) {
	scope, _, isScoped := strings.Cut(name, "/")
	base := s.values["registry"]
	if isScoped {
		base = cmp.Or(s.values[scope+":registry"], base)
	}
	base = strings.TrimSuffix(cmp.Or(base, "https://registry.npmjs.org"), "/")
	return []request{{
		base: base, path: url.PathEscape(name), parse: parsePackage, header: s.authorize,
		accept: "application/vnd.npm.install-v1+json",
	}}, nil
}

// authorize adds the credentials that the person has for the address: those of the
// longest path that it is below.
func (s npmSettings) authorize(r *http.Request) {
	// With dots, a server may answer from another directory than the one that the person meant.
	if !isSafe(r.URL) || path.Clean(r.URL.Path) != strings.TrimSuffix(r.URL.Path, "/") {
		return
	}
	at := "//" + r.URL.Host + r.URL.Path
	for dir := at; len(dir) > 2; {
		dir = dir[:strings.LastIndexByte(strings.TrimSuffix(dir, "/"), '/')+1]
		get := func(key string) string { return s.credentials[dir+":"+key] }
		password, _ := base64.StdEncoding.DecodeString(get("_password"))
		switch {
		case get("_authToken") != "":
			r.Header.Set("Authorization", "Bearer "+get("_authToken"))
			return
		case get("_auth") != "":
			r.Header.Set("Authorization", "Basic "+get("_auth"))
			return
		case get("username") != "":
			r.SetBasicAuth(get("username"), string(password))
			return
		}
	}
}

// isSafe tells whether credentials may be sent to an address: it is encrypted, or on
// this machine.
func isSafe(u *url.URL) bool {
	ip := net.ParseIP(u.Hostname())
	return u.Scheme == "https" || u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
}

// parsePackage reads the versions of a package that are not deprecated.
func parsePackage(body []byte) (out []string, err error) {
	var doc struct {
		Versions map[string]struct {
			Deprecated any `json:"deprecated"`
		} `json:"versions"`
	}
	if json.Unmarshal(body, &doc) != nil {
		return nil, errors.New("its answer is not a package document")
	}
	for v, about := range doc.Versions {
		isDeprecated := about.Deprecated != nil && about.Deprecated != "" && about.Deprecated != false
		if semver.IsValid("v"+v) && !isDeprecated {
			out = append(out, v)
		}
	}
	return out, nil
}

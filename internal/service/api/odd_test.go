package api_test

import (
	"cmp"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

// oddTexts are at the edges of what parameters and fields may contain, or beyond.
var oddTexts = []string{
	"", "0", "1", "-1", "2147483647", "2147483648", "9223372036854775807", "9223372036854775808", "NaN", "1e400", "1h", "-5d", "true", "null",
	"2026-01-01", "2026-13-45", "0001-01-01T00:00:00Z", "9999-12-31T23:59:59Z", "2026-11-25T10:00:00+01:00", "..", "../../etc", "\x01", "\x00",
	"%00", "%", "☃", "\xff", "'; --", "[]", "{}", strings.Repeat("a", 300), strings.Repeat("0", 64), strings.Repeat("f", 64),
	digest.Of(nil).String(), "trusted", "person/ann", "branch/x", "build@a", "run-00000001", "main", "quay",
}

// usual are what most fields of these names have in requests that are in order.
var usual = map[string]string{
	"id": "run-00000001", "run": "run-00000001", "pool": "linux", "shelf": "trusted", "writes_to": "trusted", "branch": "main",
	"commit": strings.Repeat("a", 40), "outcome": "ran", "state": "running", "kind": "files",
}

// odd makes requests from a description of the service's interface: of most, everything may be
// odd; of others, only a part is, so that it is not refused for its first field.
type odd struct {
	*rand.Rand
	most int // one of so many values is odd
}

func (o odd) isOdd() bool { return o.IntN(o.most) == 0 }

func (o odd) text() string { return oddTexts[o.IntN(len(oddTexts))] }

func (o odd) number() float64 {
	if !o.isOdd() {
		return float64(o.IntN(3))
	}
	return []float64{0, 1, -1, 2, 100, 1 << 31, 1 << 53, -(1 << 62), 1e300, 0.5}[o.IntN(10)]
}

// textOf makes the text of a field.
func (o odd) textOf(name string, s *openapi3.Schema) string {
	switch {
	case o.isOdd():
		return o.text()
	case len(s.Enum) > 0:
		return fmt.Sprint(s.Enum[o.IntN(len(s.Enum))])
	case s.Format == "date-time":
		return "2026-11-25T10:00:00Z"
	case s.Pattern != "":
		return digest.Of(nil).String()
	}
	return cmp.Or(usual[name], "build@a")
}

// value makes a value of a field that a schema describes, or now and then another one.
func (o odd) value(name string, ref *openapi3.SchemaRef, depth int) any {
	s := ref.Value
	if s == nil || depth > 6 || o.IntN(4*o.most) == 0 {
		return []any{nil, true, o.number(), o.text(), []any{o.text()}, map[string]any{"x": nil}}[o.IntN(6)]
	}
	switch {
	case s.Type.Includes("object"):
		out := map[string]any{}
		for _, name := range slices.Sorted(maps.Keys(s.Properties)) {
			if o.IntN(4*o.most) > 0 {
				out[name] = o.value(name, s.Properties[name], depth+1)
			}
		}
		if s.AdditionalProperties.Schema != nil {
			out[o.text()] = o.value("", s.AdditionalProperties.Schema, depth+1)
		}
		return out
	case s.Type.Includes("array"):
		out := []any{}
		for range o.IntN(3) {
			out = append(out, o.value(name, s.Items, depth+1))
		}
		return out
	case s.Type.Includes("integer"), s.Type.Includes("number"):
		return o.number()
	case s.Type.Includes("boolean"):
		return o.IntN(2) == 0
	}
	return o.textOf(name, s)
}

// address fills the parameters of a path.
func (o odd) address(path string, params openapi3.Parameters) string {
	path = strings.Replace(path, "{repo}", "test", 1)
	query := url.Values{}
	for _, p := range params {
		switch {
		case p.Value.In == "path" && p.Value.Name != "repo":
			text := cmp.Or(strings.Trim(o.textOf(p.Value.Name, p.Value.Schema.Value), "./"), "1")
			path = strings.Replace(path, "{"+p.Value.Name+"}", url.PathEscape(text), 1)
		case p.Value.In == "query" && o.IntN(2) == 0:
			query.Set(p.Value.Name, o.textOf(p.Value.Name, p.Value.Schema.Value))
		}
	}
	return path + "?" + query.Encode()
}

// body makes the body of a request: nil for none, bytes for what is not JSON.
func (o odd) body(op *openapi3.Operation) any {
	if op.RequestBody == nil {
		return nil
	}
	if json := op.RequestBody.Value.Content.Get("application/json"); json != nil && json.Schema != nil && o.IntN(4*o.most) > 0 {
		return o.value("", json.Schema, 0)
	}
	return []byte(o.text())
}

// lasting calls are not made: they wait, or end the token that makes them.
var lasting = []string{"/live", "/next", "/rotate", "/tokens/{id}", "/session"}

// Whatever a client sends, an answer says what is wrong with it; a status of 500 and above would
// say that the service is at fault.
func TestMadeUpRequestsAreTheirClientsFault(t *testing.T) {
	const rounds = 24
	right := func(serves ...string) func(*trial.Service) string {
		return func(s *trial.Service) string {
			secret, err := s.DB.NewToken(t.Context(), records.Token{
				Repository: s.Repo, Name: fmt.Sprint("odd", len(serves)), WritesTo: "trusted", ReadsFrom: []string{"trusted"},
				MayView: true, MayManage: true, MayRequest: true, Serves: serves,
			})
			if err != nil {
				t.Fatal(err)
			}
			return secret
		}
	}
	callers := []*caller{newCaller(t, right()), newCaller(t, right("linux"))}
	for _, c := range callers {
		c.odd = true
	}
	doc, err := openapi3.NewLoader().LoadFromData(document(t, callers[0].s))
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(1, 2))
	for _, path := range doc.Paths.InMatchingOrder() {
		if slices.ContainsFunc(lasting, func(end string) bool { return strings.HasSuffix(path, end) }) {
			continue
		}
		item := doc.Paths.Value(path)
		for method, op := range item.Operations() {
			for i := range rounds {
				o := odd{random, 2 + 18*(i%2)}
				at, body := o.address(path, slices.Concat(item.Parameters, op.Parameters)), o.body(op)
				status, answer := callers[o.IntN(len(callers))].call(method, at, body)
				if status >= http.StatusInternalServerError && status != http.StatusInsufficientStorage { // one of them set a quota
					t.Errorf("%s %s %.300q: %d %s", method, at, fmt.Sprint(body), status, answer)
				}
			}
		}
	}
}

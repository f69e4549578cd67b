package console_test

import (
	"context"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"grayloft.example/grayloft/internal/browser"
	"grayloft.example/grayloft/internal/trial"
)

func TestMain(m *testing.M) { trial.Main(m) }

var harbour = map[string]string{
	"grayloft.toml": `schema = 1
[repo]
name = "test"
[task.charts]
run = "cat in > charts.out; echo four ports"
reads = ["in"]
writes = ["charts.out"]
probes = []
[task.check]
run = "echo the harbour is too shallow; grep -q deep charts.out"
reads = []
writes = []
probes = []
after = ["charts"]
[task.wait]
run = "echo waiting; while [ ! -e go ]; do sleep 0.02; done"
reads = []
writes = []
probes = []
`,
	"in": "shallow\n", ".gitignore": "*.out\ngo\n",
}

// page drives the console in a browser.
type page struct {
	t   *testing.T
	ctx context.Context
	url string
}

func (p *page) do(what string, steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, time.Minute)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		text, _ := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body.innerText"))
		p.t.Fatalf("%s: %v\nthe page says:\n%s", what, err, text)
	}
}

func (p *page) eval(expr string) string {
	p.t.Helper()
	s, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("String("+expr+")"))
	if err != nil {
		p.t.Fatalf("%s: %v", expr, err)
	}
	return s
}

// says waits until the page, or a part of it, contains a text.
func (p *page) says(selector, text string) {
	p.t.Helper()
	got := ""
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if got = p.eval("document.querySelector('" + selector + "')?.innerText"); strings.Contains(got, text) {
			return
		}
	}
	p.t.Fatalf("%s does not say %q, at %s:\n%s\nthe page says:\n%s", selector, text, p.eval("location.href"), got, p.eval("document.body.innerText"))
}

// choose gives a field a value, as a person would.
func (p *page) choose(selector, value string) {
	p.t.Helper()
	p.eval("(e => { e.value = '" + value + "'; e.dispatchEvent(new Event('change', { bubbles: true })) })(document.querySelector('" + selector + "'))")
}

// axe looks for what keeps people from using the page with a keyboard or a screen
// reader, and returns what it found.
func (p *page) axe() string {
	p.t.Helper()
	source, err := os.ReadFile("../../../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		p.t.Fatal(err)
	}
	if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](string(source)+"; ''")); err != nil {
		p.t.Fatal(err)
	}
	p.eval("(window.found = '', axe.run().then(r => window.found = 'done: ' + r.violations.map(v => v.id + ' ' + v.nodes[0].html.slice(0, 200)).join('; ')), '')")
	found := ""
	trial.Wait(p.t, "axe is done", func() bool { found = p.eval("window.found"); return found != "" })
	return strings.TrimPrefix(found, "done: ")
}

const rowOf = "[data-row]"

// overlaps lists the bars of a timeline that begin before the one beside them ends.
const overlaps = `(bars => bars.filter(a => bars.some(b => b !== a && b.y === a.y && b.x <= a.x && a.x + 3 < b.x + b.w))
	.map(a => a.title).join('; '))([...document.querySelectorAll('[aria-label^="Tasks by slot"] g')].map(g => {
		const r = g.querySelector('rect'), n = of => Number(r.getAttribute(of));
		return { title: g.querySelector('title').textContent, x: n('x'), y: n('y'), w: n('width') };
	}))`

func TestTheConsole(t *testing.T) {
	s := trial.Serve(t)
	if resp, err := http.Get(s.URL); err != nil {
		t.Fatal(err)
	} else if b, _ := io.ReadAll(resp.Body); !strings.Contains(string(b), `id="app"`) {
		t.Fatal("the console is not built, so it cannot be tested: make build")
	}
	ci := s.Token(t, "ci", "trusted", "trusted")
	brenna := s.Token(t, "brenna", "person/brenna", "person/brenna", "trusted")
	r := trial.New(t, harbour).Login(s.URL, ci, "harbour-ci")
	first := r.Run("check", "--keep-going")
	c := r.Clone().Login(s.URL, brenna, "home")
	second := c.Run("charts")

	ctx, stop, err := browser.Start(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, 4*time.Minute)
	defer cancel()
	p := &page{t, ctx, s.URL}
	token := browser.CSS("#token")

	// Signing in: a wrong token is refused with a message, a valid one becomes
	// a cookie that scripts cannot read, and the requested page is shown.
	p.do("open", chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.URL+"/runs/"+first.Run+"?task=check@test"), chromedp.WaitVisible(token))
	p.do("a wrong token", chromedp.SendKeys(token, "loft-wrong\r"))
	p.says("[role=alert]", "unknown token")
	p.eval("(e => { e.value = ''; e.dispatchEvent(new Event('input', { bubbles: true })) })(document.querySelector('#token'))")
	p.do("a right token", chromedp.SendKeys(token, brenna+"\r"), chromedp.WaitVisible(browser.CSS("tr[data-row]")))
	if got := p.eval("document.cookie"); strings.Contains(got, "loft-") {
		t.Errorf("scripts can read the cookie: %s", got)
	}

	// One run: what failed and why, with its log.
	p.says("h1", "check")
	p.says("[aria-label=\"The selected task\"]", "Failed: exit 1")
	p.says("[aria-label=\"Log of check@test\"]", "the harbour is too shallow")
	p.says("[aria-label=\"Tasks\"]", "charts@test")
	if got := p.eval("document.querySelectorAll('[aria-label=\"Summary of the run\"] svg g rect, [aria-label=\"Summary of the run\"] svg rect').length"); got == "0" {
		t.Error("the timeline is empty")
	}
	if got := p.eval(overlaps); got != "" {
		t.Errorf("in the timeline, bars of a slot overlap: %s", got)
	}

	// The ledger: by keyboard from the search to a run, and back.
	p.do("to the runs", chromedp.Click(browser.CSS("nav a")), chromedp.WaitVisible(browser.CSS("a[data-row]")))
	p.says("h1", "2 runs saved")
	p.says("[aria-label=\"Runs\"]", "1 failed")
	// Sent as one event: otherwise the browser receives the key and its letter
	// separately, and cannot suppress the letter.
	p.eval("document.body.dispatchEvent(new KeyboardEvent('keydown', { key: '/', bubbles: true, cancelable: true }))")
	p.do("type", chromedp.KeyEvent("brenna"))
	p.says("#search-hits", "brenna, ")
	p.do("open by keyboard", chromedp.KeyEvent("\r"))
	trial.Wait(t, "the run opens", func() bool { return strings.Contains(p.eval("location.pathname"), second.Run) })
	p.says("[aria-label=\"Tasks\"]", "ci, ") // who made it
	p.says("[aria-label=\"The selected task\"]", "ci at harbour-ci")

	// The service filters and sorts; the address says how.
	p.do("to the runs", chromedp.Navigate(s.URL+"/"), chromedp.WaitVisible(browser.CSS("a[data-row]")))
	p.says("[aria-label=\"Runs\"]", "2 runs")
	p.choose("select[aria-label=\"Place\"]", "home")
	p.says("[aria-label=\"Runs\"]", "1 run")
	if got := p.eval("location.search"); !strings.Contains(got, "place=home") {
		t.Errorf("the address does not hold the filter: %s", got)
	}
	p.do("show all", chromedp.Click(browser.CSS("[aria-label=Filters] button.underline")))
	p.says("[aria-label=\"Runs\"]", "2 runs")
	p.choose("[aria-label=\"ran: least, in tasks\"]", "2")
	p.says("[aria-label=\"Runs\"]", "1 run")
	p.do("sort", chromedp.Click(browser.CSS("[aria-label=\"sort by Took\"]")))
	trial.Wait(t, "the address holds the order", func() bool { return strings.Contains(p.eval("location.search"), "sort=took") })

	// A run appears while it is running, and ends, without reloading.
	p.do("to the runs", chromedp.Navigate(s.URL+"/"), chromedp.WaitVisible(browser.CSS("a[data-row]")))
	cmd := r.Command("run", "wait")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	p.says("[aria-label=\"Runs\"]", "running")
	p.do("open it", chromedp.Click(browser.CSS("a[data-row=\"0\"]")))
	p.says("[aria-label=\"Tasks\"]", "running")
	if err := os.WriteFile(r.Path("go"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Fatal(err)
	}
	p.says("[aria-label=\"Tasks\"]", "ran")
	p.says("[aria-label=\"The selected task\"]", "waiting")

	// Light and dark, and a narrow screen without horizontal scrolling.
	light := p.eval("getComputedStyle(document.body).backgroundColor")
	if err := browser.Scheme(ctx, "dark"); err != nil {
		t.Fatal(err)
	}
	if dark := p.eval("getComputedStyle(document.body).backgroundColor"); dark == light {
		t.Errorf("dark looks like light: %s", dark)
	}
	p.do("narrow", chromedp.EmulateViewport(360, 740), chromedp.Navigate(s.URL+"/"), chromedp.WaitVisible(browser.CSS("a"+rowOf)))
	if got := p.eval("document.documentElement.scrollWidth <= 360"); got != "true" {
		t.Errorf("360 px wide, it scrolls sideways: %s", p.eval("document.documentElement.scrollWidth"))
	}

	// Missing things are explained.
	p.do("a run that is not there", chromedp.Navigate(s.URL+"/runs/nothing-here"), chromedp.WaitVisible(browser.CSS("[role=status]")))
	p.says("[role=status]", "There is no such run")
}

func TestFilesAreServedSafely(t *testing.T) {
	s := trial.Serve(t)
	resp, err := http.Get(s.URL + "/any/view?x=1")
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if resp.StatusCode != 200 || !strings.Contains(resp.Header.Get("Content-Security-Policy"), "default-src 'self'") {
		t.Errorf("%d %v", resp.StatusCode, resp.Header)
	}
	for path, want := range map[string]int{"/assets/none.js": 404, "/../../etc/passwd": 200, "/v1/none": 404} {
		resp, err := http.Get(s.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		b, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if resp.StatusCode != want || strings.Contains(string(b), "root:") {
			t.Errorf("%s: %d", path, resp.StatusCode)
		}
	}
}

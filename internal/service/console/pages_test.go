package console_test

import (
	"context"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"grayloft.example/grayloft/internal/browser"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

var pier = map[string]string{
	"grayloft.toml": `schema = 1
[repo]
name = "test"
[probe.depth]
run = "echo fathoms; cat in"
[task.tables]
run = "cat in; cp in tables.out"
reads = ["in"]
writes = ["tables.out"]
probes = ["depth"]
help = "make the tables"
[task.check]
run = "printf '<testsuite><testcase name=\"Depth\"/><testcase name=\"Fog\"><failure message=\"too thick\"/></testcase></testsuite>' > t.xml; printf '\\033[31mred\\033[0m <b>\\n'; grep -q deep in"
reads = ["in"]
writes = []
reports = ["t.xml"]
probes = []
after = ["tables"]
`,
	"in": "shallow\n", ".gitignore": "*.out\nt.xml\n",
}

// signedIn opens the console in a browser, with a token that may manage.
func signedIn(t *testing.T, s *trial.Service, name string) *page {
	t.Helper()
	secret, err := s.DB.NewToken(t.Context(), records.Token{
		Repository: s.Repo, Name: name, WritesTo: "person/" + name, ReadsFrom: []string{"trusted"}, MayView: true, MayManage: true, MayRequest: true,
	})
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop, err := browser.Start(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	ctx, cancel := context.WithTimeout(ctx, 4*time.Minute)
	t.Cleanup(cancel)
	p := &page{t, ctx, s.URL}
	token := browser.CSS("#token")
	p.do("open", chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.URL), chromedp.WaitVisible(token))
	p.do("sign in", chromedp.SendKeys(token, secret+"\r"), chromedp.WaitVisible(browser.CSS("nav[aria-label=Pages]")))
	return p
}

func (p *page) open(path, selector, text string) {
	p.t.Helper()
	p.do("open "+path, chromedp.Navigate(p.url+path), chromedp.WaitVisible(browser.CSS("h1")))
	p.says(selector, text)
}

// Two runs, a change and a failure between them: every page answers its
// questions about them, in both themes without a finding of axe, and without
// scrolling sideways on a narrow screen.
func TestEveryPageAnswersItsQuestion(t *testing.T) {
	s := trial.Serve(t)
	ci := s.Token(t, "ci", "trusted", "trusted")
	r := trial.New(t, pier).Login(s.URL, ci, "harbour-ci")
	first := r.Run("check", "--keep-going")
	r.Write("in", "deep\n")
	second := r.Run("check")
	p := signedIn(t, s, "kari")

	// What a task was built from, and what changed, down to the lines.
	at := "/runs/" + second.Run + "?task=" + url.QueryEscape("check@test")
	p.open(at, "[aria-label=\"The selected task\"]", "a file it reads changed")
	p.says("[aria-label=\"Log of check@test\"]", "red <b>")
	if got := p.eval("document.querySelector('.ansi-red')?.textContent"); got != "red" {
		t.Errorf("the colour of the log: %q", got)
	}
	p.open(at+"&tab=inputs", "[aria-label=\"Input files\"]", "in")
	p.open(at+"&tab=tests", "[aria-label=\"The selected task\"]", "too thick")
	p.open(at+"&tab=compare&with="+first.Run, "[aria-label=\"The selected task\"]", "2 inputs differ") // what failed tasks were made from is sent as well
	tables := "/runs/" + second.Run + "?task=" + url.QueryEscape("tables@test")
	p.open(tables+"&tab=compare&with="+first.Run, "[aria-label=\"Changed lines of tables.out\"]", "+deep")
	p.says("[aria-label=\"Changed lines of tables.out\"]", "-shallow")
	p.says("[aria-label=\"Changed lines of depth\"]", "-shallow\n+deep") // of a probe's output, those that differ
	p.open(tables+"&tab=inputs", "[aria-label=\"Output of depth\"]", "fathoms\ndeep")
	p.open(tables+"&tab=outputs", "[aria-label=\"Outputs\"]", "tables.out")
	p.open("/compare?a="+first.Run+"&b="+second.Run, "h1", "2 tasks have other inputs")

	// A run that ends where the time axis has a label.
	if _, err := s.DB.Exec("UPDATE runs SET seconds = 10 WHERE id = $1", first.Run); err != nil {
		t.Fatal(err)
	}
	p.open("/runs/"+first.Run, "main", "9.0 s")
	if got := p.eval("(svg => [...svg.querySelectorAll('text')].filter(e => e.getBoundingClientRect().right > svg.getBoundingClientRect().right).map(e => e.textContent).join())" +
		"(document.querySelector('[aria-label^=\"Tasks by slot over time\"]'))"); got != "" {
		t.Errorf("labels of the time axis are cut: %s", got)
	}

	// How a task behaves, what is declared, what a file reaches, what is shared.
	p.open("/tasks", "[aria-label=\"Tasks\"]", "check@test")
	p.open("/tasks/"+url.PathEscape("check@test"), "[aria-label=\"Tests that failed\"]", "Fog")
	p.says("[aria-label=Figures]", "2 runs") // on the critical path
	p.says("[aria-label=Declaration]", "tables@test")
	p.open("/projects?view=list&project=test", "[aria-label=\"The selected project\"]", "make the tables")
	p.open("/projects?view=list&path=in", "[aria-label=Reach]", "reaches 2 tasks")
	p.open("/cache", "[aria-label=\"Largest entries\"]", "tables@test")
	p.do("open an entry", chromedp.Click(browser.CSS("[aria-label=\"Largest entries\"] a")))
	p.says("[aria-label=\"Built from\"]", "cp in tables.out")
	p.open("/advice", "h1", "Nothing stands out")

	paths := []string{
		"/", "/?as=table&measure=hits", at, at + "&tab=inputs", "/compare?a=" + first.Run + "&b=" + second.Run, "/tasks", "/tasks/check@test",
		"/advice", "/projects?project=test", "/projects?view=list", "/cache", "/access",
	}
	for _, scheme := range []string{"light", "dark"} {
		if err := browser.Scheme(p.ctx, scheme); err != nil {
			t.Fatal(err)
		}
		for _, path := range paths {
			p.do("open "+path, chromedp.Navigate(s.URL+path), chromedp.WaitVisible(browser.CSS("h1")))
			trial.Wait(t, "nothing is loading", func() bool { return p.eval("document.querySelectorAll('[aria-busy=true]').length") == "0" })
			if found := p.axe(); found != "" {
				t.Errorf("%s, %s: %s", path, scheme, found)
			}
		}
	}
	p.do("narrow", chromedp.EmulateViewport(360, 740))
	for _, path := range paths {
		p.do("open "+path, chromedp.Navigate(s.URL+path), chromedp.WaitVisible(browser.CSS("h1")))
		trial.Wait(t, "nothing is loading", func() bool { return p.eval("document.querySelectorAll('[aria-busy=true]').length") == "0" })
		if got := p.eval("document.documentElement.scrollWidth"); got != "360" {
			t.Errorf("%s, 360 px wide, is %s px wide: %s", path, got, p.eval(
				"[...document.querySelectorAll('main *')].filter(e => e.getBoundingClientRect().right > 361).slice(0, 6).map(e => e.outerHTML.slice(0, 120)).join('; ')"))
		}
	}
}

// Whoever opens a new service is told how a run gets there, and sees it arrive.
func TestTheFirstRunArrives(t *testing.T) {
	s := trial.Serve(t)
	p := signedIn(t, s, "kari")
	p.open("/", "h1", "No run in the last 14 days")
	p.says("[role=status]", "grayloft login "+s.URL)
	p.do("ask for a year", chromedp.Click(browser.CSS("[role=status] button")))
	p.says("h1", "No run in the last year")
	r := trial.New(t, map[string]string{
		"grayloft.toml": "schema = 1\n[repo]\nname = \"" + s.Repo + "\"\n[task.sound]\nrun = \"true\"\nreads = []\nwrites = []\nprobes = []\n",
	}).Login(s.URL, s.Token(t, "isla", "person/isla", "trusted"), "home")
	if rep := r.Run("sound"); !rep.OK {
		t.Fatal(rep.Answer)
	}
	p.says("h1", "1 run saved")
	p.says("[data-row]", "sound")
	p.open("/?find=nothing-like-it", "h1", "No run matches")
	p.says("[aria-label=Filters]", "show all")
	if found := p.axe(); found != "" {
		t.Error(found)
	}
}

// A token is made, shown once, rotated and revoked, and the log says who did it.
func TestTokensAreManagedInTheBrowser(t *testing.T) {
	s := trial.Serve(t)
	p := signedIn(t, s, "kari")
	p.open("/access", "[aria-label=Tokens]", "kari")
	name := browser.CSS("form[aria-label=\"Make a token\"] input")
	p.do("make a token", chromedp.SendKeys(name, "nightly\r"), chromedp.WaitVisible(browser.CSS("[data-secret]")))
	secret := p.eval("document.querySelector('[data-secret]').textContent")
	made, err := s.DB.FindToken(t.Context(), secret)
	if err != nil || made.Name != "nightly" || made.WritesTo != "" || !made.MayView || made.MayManage || made.ExpiresAt == nil {
		t.Fatalf("%q: %+v, %v", secret, made, err)
	}
	p.open("/access", "[aria-label=\"Audit log\"]", "token made: nightly")
	if strings.Contains(p.eval("document.body.innerText"), secret) {
		t.Error("the secret is shown again")
	}
	p.says("[aria-label=\"Audit log\"]", "kari")
	press := func(button string) {
		t.Helper()
		p.do(button, chromedp.Click(browser.CSS("[aria-label=\""+button+" nightly\"]")), chromedp.WaitVisible(browser.CSS("[role=alertdialog]")))
		p.do("confirm", chromedp.Click(browser.CSS("[role=alertdialog] .font-semibold.text-copper")))
		trial.Wait(t, "the question is gone", func() bool { return p.eval("document.querySelector('[role=alertdialog]')") == "null" })
	}
	press("Rotate")
	p.do("the new secret", chromedp.WaitVisible(browser.CSS("[data-secret]")))
	if next := p.eval("document.querySelector('[data-secret]').textContent"); next == secret {
		t.Error("the secret did not change")
	}
	press("Revoke")
	p.says("[aria-label=\"Audit log\"]", "token revoked: nightly")
	if _, err := s.DB.FindToken(t.Context(), secret); err == nil {
		t.Error("the revoked token still works")
	}

}

// An expired session asks to sign in, and comes back to the same page.
func TestAnEndedSessionComesBackToThePage(t *testing.T) {
	s := trial.Serve(t)
	p := signedIn(t, s, "kari")
	p.open("/tasks", "h1", "0 tasks")
	if _, err := s.DB.ExecContext(t.Context(), `DELETE FROM sessions USING tokens t WHERE token_id = t.id AND t.name = 'kari'
		AND t.repository_id = (SELECT id FROM repositories WHERE name = $1)`, s.Repo); err != nil {
		t.Fatal(err)
	}
	// Another replica, or the end of what is remembered of a session.
	trial.Wait(t, "the session is forgotten", func() bool {
		p.do("look again", chromedp.Navigate(s.URL+"/tasks"))
		return p.eval("document.querySelector('#token') !== null") == "true"
	})
	p.says("form", "Sign in")
}

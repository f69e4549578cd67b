package console_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"grayloft.example/grayloft/internal/browser"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

// A run is requested in the browser; a runner takes it, prints and ends; the pages follow
// without being loaded again.
func TestARequestIsMadeAndFollowedInTheBrowser(t *testing.T) {
	s := trial.Serve(t)
	p := signedIn(t, s, "kari")
	p.open("/fleet", "h1", "No runner serves this repository now")
	p.says("[aria-label=Requests]", "No request yet")
	secret, err := s.DB.NewToken(t.Context(), records.Token{Repository: s.Repo, Name: "north", Serves: []string{"linux"}})
	if err != nil {
		t.Fatal(err)
	}
	runner := remote.New(s.URL, s.Repo, secret, nil)
	known, err := runner.Register(t.Context(), protocol.RunnerHello{Name: "north", Pool: "linux", Host: "h", Platform: "p", Slots: 2, Jobs: 1})
	if err != nil {
		t.Fatal(err)
	}
	p.open("/fleet", "[aria-label=Runners]", "north")
	dialog := func(field string) browser.CSS {
		return browser.CSS("[role=dialog] input[placeholder=\"" + field + "\"]")
	}
	p.do("open the dialog", chromedp.Click(browser.CSS("main button.font-semibold")), chromedp.WaitVisible(dialog("build test")))
	p.do("fill it in", chromedp.SendKeys(dialog("build test"), "build test@fares"), chromedp.SendKeys(dialog("optimise=speed"), "optimise=speed"),
		chromedp.SendKeys(dialog("last-good, or a commit"), "last-good"), chromedp.SendKeys(dialog("-run 'Fog.*'"), `-run 'a b' c\'d`))
	p.says("[data-command]", `grayloft request build test@fares --since last-good --branch main --pool linux --set optimise=speed -- -run 'a b' 'c'\''d'`)
	if found := p.axe(); found != "" {
		t.Error(found)
	}
	p.do("send it", chromedp.SendKeys(dialog("build test"), "\r"))
	p.says("h1", "waits in the pool linux")
	work := protocol.WorkAnswer{}
	for work.Job == nil {
		if work, err = runner.NextWork(t.Context(), known.ID, protocol.WorkQuestion{Free: 1, Jobs: []int64{}}); err != nil {
			t.Fatal(err)
		}
	}
	w := work.Job
	if strings.Join(w.Ask.Tasks, " ") != "build test@fares" || w.Ask.Branch != "main" || strings.Join(w.Ask.Sets, " ") != "optimise=speed" ||
		w.Ask.Since != "last-good" || strings.Join(w.Ask.Args, "|") != "-run|a b|c'd" {
		t.Errorf("%+v", w.Ask)
	}
	p.says("h1", "runs on north")
	if err := runner.SendJobLines(t.Context(), w.Job, protocol.JobLines{Attempt: 1, Lines: []string{"<b>first</b> line"}}); err != nil {
		t.Fatal(err)
	}
	p.says("[role=log]", "<b>first</b> line")
	if err := runner.EndJob(t.Context(), w.Job, protocol.JobEnd{Attempt: 1, State: fleet.Failed, Exit: 1, Message: "why it failed"}); err != nil {
		t.Fatal(err)
	}
	p.says("h1", "failed on north")
	p.says("[aria-label=Jobs]", "why it failed")

	// The next request starts with the same options, and is cancelled.
	p.open("/fleet", fmt.Sprintf("[data-request=\"%d\"]", w.Request), "failed")
	p.do("open the dialog", chromedp.Click(browser.CSS("main button.font-semibold")), chromedp.WaitVisible(dialog("build test")))
	trial.Wait(t, "the last options are offered", func() bool {
		return strings.Contains(p.eval("document.querySelector('[data-command]').textContent"),
			`build test@fares --since last-good --branch main --pool linux --set optimise=speed -- -run 'a b' 'c'\''d'`)
	})
	p.do("send it", chromedp.SendKeys(dialog("build test"), "\r"))
	p.says("h1", "waits in the pool linux")
	p.do("cancel it", chromedp.Click(browser.CSS("main button.control")), chromedp.WaitVisible(browser.CSS("[role=alertdialog]")))
	p.do("confirm", chromedp.Click(browser.CSS("[role=alertdialog] .font-semibold.text-copper")))
	p.says("h1", "was cancelled by kari")

	// A claim in flight is seen.
	c := remote.New(s.URL, s.Repo, s.Token(t, "olve", "person/olve", "person/olve"), nil)
	if _, err := c.Self(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Claim(t.Context(), protocol.Claim{
		Key: digest.Of([]byte("k")), Run: "06h1bdpc8luqhcanem8btgv0sc", Task: "bundle@harbour-board", Seconds: 40, Place: "home",
	}); err != nil {
		t.Fatal(err)
	}
	p.open("/fleet", "[data-claim=\"bundle@harbour-board\"]", "olve, home")
	for _, path := range []string{"/fleet", fmt.Sprint("/fleet/", w.Request)} {
		for _, scheme := range []string{"light", "dark"} {
			if err := browser.Scheme(p.ctx, scheme); err != nil {
				t.Fatal(err)
			}
			p.do("open "+path, chromedp.Navigate(s.URL+path), chromedp.WaitVisible(browser.CSS("[aria-label=Jobs], [data-claim]")))
			if found := p.axe(); found != "" {
				t.Errorf("%s, %s: %s", path, scheme, found)
			}
		}
		p.do("narrow", chromedp.EmulateViewport(360, 740))
		if got := p.eval("document.documentElement.scrollWidth"); got != "360" {
			t.Errorf("%s, 360 px wide, is %s px wide", path, got)
		}
		p.do("wide", chromedp.EmulateViewport(1280, 800))
	}
}

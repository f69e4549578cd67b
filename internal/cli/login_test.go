package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/trial"
)

func TestLoginRemembersAServiceForOnePerson(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	r := trial.New(t, sample)
	config := t.TempDir()
	r.Env = append(r.Env, "GRAYLOFT_CONFIG="+config)
	token := s.Token(t, "ann", "person/ann", "trusted")
	if a := answer(r, "nonsense\n", "login", s.URL); a.Code != 2 || !strings.Contains(a.Err, "does not know this token") || !strings.Contains(a.Err, "Nothing was remembered") {
		t.Errorf("a wrong token: exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if a := answer(r, "", "login", s.URL); a.Code != 2 || !strings.Contains(a.Err, "no token") {
		t.Errorf("no token: exit %d, %s", a.Code, a.Err)
	}
	if a := answer(r, "x\n", "login", "http://127.0.0.1:1"); a.Code != 3 || !strings.Contains(a.Err, "cannot be reached") {
		t.Errorf("no service: exit %d, %s", a.Code, a.Err)
	}
	if a := answer(r, token+"\n", "login", s.URL+"/loft"); a.Code != 3 || !strings.Contains(a.Err, "is this the address of a Gray Loft service?") {
		t.Errorf("another page of the service: exit %d: %s", a.Code, a.Err)
	}
	if a := answer(r, token+"\n", "login", s.URL+"/"); a.Code != 0 || !strings.Contains(a.Out, "as ann: writes to person/ann, reads from trusted") || strings.Contains(a.Out, token) {
		t.Fatalf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	info, err := os.Stat(filepath.Join(config, "services.json"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info.Mode(), err)
	}
	if rep := r.Run("--pick", "all"); !rep.OK || rep.Answer.Err != "" {
		t.Errorf("%+v", rep.Answer)
	}
	bob := r.Clone().Login(s.URL, s.Token(t, "bob", "person/bob", "person/ann"), "home")
	if rep := bob.Run("--pick", "all"); rep.Totals["ran"] != 0 {
		t.Errorf("nothing was shared through the login: %v", rep.Outcomes())
	}
	if a := r.Grayloft("logout"); a.Code != 0 || !strings.Contains(a.Out, "Forgot "+s.URL) {
		t.Errorf("logout: %s%s", a.Out, a.Err)
	}
	if a := r.Grayloft("logout"); a.Code != 0 || !strings.Contains(a.Out, "No service is remembered") {
		t.Errorf("logout again: %s%s", a.Out, a.Err)
	}
}

func TestATokenOfAnotherRepositoryIsReportedOnce(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	r := trial.New(t, sample)
	r.Login(s.URL, s.TokenFor(t, "elsewhere", "ann", "person/ann", "trusted"), "office")
	a := r.Grayloft("run", "test")
	if a.Code != 0 || strings.Count(a.Err, `this token is for the repository "elsewhere", not for`) != 1 {
		t.Errorf("exit %d\n%s%s", a.Code, a.Out, a.Err)
	}
}

func TestATokenIsRotated(t *testing.T) {
	t.Parallel()
	s := trial.Serve(t)
	r := trial.New(t, sample)
	if a := r.Grayloft("login", "--rotate"); a.Code != 2 || !strings.Contains(a.Err, "no service is remembered") {
		t.Errorf("without a login: %d %s", a.Code, a.Err)
	}
	ci, _ := everyone(t, s)
	cmd := r.Command("login", s.URL)
	cmd.Stdin = strings.NewReader(ci + "\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if a := r.Grayloft("login", "--rotate"); a.Code != 0 || !strings.Contains(a.Out, s.Repo+" has a new token") {
		t.Fatalf("%d %s%s", a.Code, a.Out, a.Err)
	}
	if _, err := s.DB.Exec("UPDATE tokens SET old_until = now() WHERE old_until IS NOT NULL AND repository_id = (SELECT id FROM repositories WHERE name = $1)", s.Repo); err != nil {
		t.Fatal(err)
	}
	if rep := r.Run("--pick", "all"); !rep.OK || rep.Answer.Err != "" {
		t.Errorf("with the new one: %v %s", rep.Totals, rep.Answer.Err)
	}
	// A token that expires soon causes a warning.
	if _, err := s.DB.Exec("UPDATE tokens SET expires_at = now() + interval '2 days' WHERE repository_id = (SELECT id FROM repositories WHERE name = $1)", s.Repo); err != nil {
		t.Fatal(err)
	}
	trial.Wait(t, "the service to know", func() bool {
		return strings.Contains(r.Grayloft("run", "--pick", "all").Err, "ask for a new one before that")
	})
	a := r.Grayloft("login", "--rotate", s.URL)
	if a.Code != 2 {
		t.Errorf("an address beside --rotate: %d %s", a.Code, a.Err)
	}
}

func TestAServiceBehindTLS(t *testing.T) {
	t.Parallel()
	cert, key := trial.Certificate(t)
	s := trial.ServeWith(t, func(c *service.Config) { c.CertFile, c.KeyFile = cert, key })
	ci, brenna := everyone(t, s)
	r := trial.New(t, sample).Login(s.URL, ci, "ci")
	r.Env = append(r.Env, "SSL_CERT_FILE="+cert)
	if rep := r.Run("--pick", "all"); !rep.OK || rep.Answer.Err != "" || !strings.HasPrefix(s.URL, "https://") {
		t.Fatalf("%s: %v %s", s.URL, rep.Totals, rep.Answer.Err)
	}
	c := r.Clone().Login(s.URL, brenna, "home")
	c.Env = append(c.Env, "SSL_CERT_FILE="+cert)
	if rep := c.Run("--pick", "all"); rep.Totals["ran"] != 0 {
		t.Errorf("%v %s", rep.Totals, rep.Answer.Err)
	}
	// A client that does not trust the certificate says so and continues alone.
	d := r.Clone().Login(s.URL, brenna, "office")
	if rep := d.Run("--pick", "all"); !rep.OK || rep.Totals["ran"] != 4 || !strings.Contains(rep.Answer.Err, "certificate") {
		t.Errorf("%v %s", rep.Totals, rep.Answer.Err)
	}
}

func TestACommandAboutTheServiceSaysWhatIsMissing(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ address, says string }{
		{"", "this needs a service: grayloft login URL"},
		{"http://127.0.0.1:1", "there is no token for the service at http://127.0.0.1:1: grayloft login http://127.0.0.1:1"},
		{"127.0.0.1:7420", `GRAYLOFT_SERVICE is "127.0.0.1:7420", which is not an address: write it like http://`},
		{"ftp://127.0.0.1", "is not an address"}, {"http:/x", "is not an address"},
	} {
		r := trial.New(t, sample)
		r.Env = append(r.Env, "GRAYLOFT_CONFIG="+t.TempDir(), "GRAYLOFT_SERVICE="+c.address)
		if a := r.Grayloft("requests"); a.Code != 2 || !strings.Contains(a.Err, c.says) {
			t.Errorf("%q: exit %d, %s", c.address, a.Code, a.Err)
		}
	}
	r := trial.New(t, sample).Login("127.0.0.1:7420", "loft-x", "home")
	if rep := r.Run("generate"); !rep.OK || strings.Count(rep.Answer.Err, "is not an address") != 1 {
		t.Errorf("a run goes on without a service, and says so once: %+v", rep.Answer)
	}
}

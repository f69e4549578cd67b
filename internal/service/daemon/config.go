package daemon

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/fleet"
)

// config is the service's configuration file: what it requests by itself.
type config struct {
	Schedules []trigger `toml:"schedule"`
	Pushes    []trigger `toml:"push"`
}

// trigger is a [[schedule]] or a [[push]].
type trigger struct {
	Repo       string   `toml:"repo"`
	Name       string   `toml:"name"`
	Cron       string   `toml:"cron"`
	Branch     string   `toml:"branch"`
	Branches   []string `toml:"branches"`
	SecretFile string   `toml:"secret_file"`
	Pool       string   `toml:"pool"`
	Tasks      []string `toml:"tasks"`
	Pick       string   `toml:"pick"`
	Since      string   `toml:"since"`
	Modes      []string `toml:"modes"`
	Sets       []string `toml:"sets"`
	NoReuse    bool     `toml:"no_reuse"`
	KeepGoing  bool     `toml:"keep_going"`
	Spread     int      `toml:"spread"`
	Low        bool     `toml:"low_priority"`
}

// readConfig reads the configuration file.
func readConfig(file string, to *service.Config) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	var c config
	d := toml.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&c); err != nil {
		var strict *toml.StrictMissingError
		if errors.As(err, &strict) {
			return fmt.Errorf("%s: unknown keys:\n%s", file, strict.String())
		}
		return fmt.Errorf("%s: %w", file, err)
	}
	for kind, list := range map[string][]trigger{"schedule": c.Schedules, "push": c.Pushes} {
		for i, x := range list {
			t, err := x.read(filepath.Dir(file))
			if err == nil && (kind == "schedule") != (t.Cron != "") {
				err = errors.New("a schedule has a cron, and a push a secret_file")
			}
			if err == nil {
				err = t.Check()
			}
			if err != nil {
				return fmt.Errorf("%s: the %s number %d: %w", file, kind, i+1, err)
			}
			if kind == "schedule" {
				to.Schedules = append(to.Schedules, t)
			} else {
				to.Pushes = append(to.Pushes, t)
			}
		}
	}
	return nil
}

func (x trigger) read(dir string) (fleet.Trigger, error) {
	t := fleet.Trigger{
		Repository: x.Repo, Name: x.Name, Cron: x.Cron, Branch: x.Branch, Branches: x.Branches,
		Ask: protocol.Ask{
			Pool: x.Pool, Tasks: x.Tasks, Pick: x.Pick, Since: x.Since, Modes: x.Modes, Sets: x.Sets, NoReuse: x.NoReuse,
			KeepGoing: x.KeepGoing, Spread: x.Spread,
		},
	}
	if x.Low {
		t.Ask.Priority = protocol.PriorityLow
	}
	if x.SecretFile == "" {
		return t, nil
	}
	if !filepath.IsAbs(x.SecretFile) {
		x.SecretFile = filepath.Join(dir, x.SecretFile)
	}
	secret, err := os.ReadFile(x.SecretFile)
	if t.Secret = strings.TrimSpace(string(secret)); err == nil && t.Secret == "" {
		err = fmt.Errorf("%s is empty", x.SecretFile)
	}
	return t, err
}

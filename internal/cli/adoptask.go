package cli

import (
	"fmt"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/adopt"
	"grayloft.example/grayloft/internal/core/survey"
	"grayloft.example/grayloft/internal/term"
)

// askVariables decides how the variables that scripts read are declared.
func (a *app) askVariables(f adoptFlags, s *survey.Survey, p *adopt.Proposal) error {
	if len(s.Variables) == 0 {
		return nil
	}
	fmt.Fprintln(a.Out, "Scripts and sources read these environment variables:")
	rows := [][]string{}
	for _, v := range s.Variables {
		rows = append(rows, []string{"  " + v.Name, string(v.Use), term.FirstFew(v.Files), v.Why})
	}
	a.Table([]string{"  variable", "becomes", "read by", "since"}, rows)
	fmt.Fprintln(a.Out)
	for _, v := range s.Variables {
		uses := []string{}
		for _, u := range survey.Uses {
			if u != survey.AsSetting || len(v.Values) > 0 {
				uses = append(uses, string(u))
			}
		}
		if !slices.ContainsFunc(v.Files, func(file string) bool {
			return !strings.Contains(file, ".") || strings.Contains(file, " in ") || strings.HasSuffix(file, ".sh")
		}) {
			continue // read only by sources: the default is good enough, and the declaration can be changed
		}
		use, err := a.choose(
			f,
			fmt.Sprintf("How should %s, read by %s, be declared?", v.Name, term.FirstFew(v.Files)),
			string(v.Use),
			uses,
		)
		if err != nil {
			return err
		}
		v.Use = survey.Use(use)
	}
	return nil
}

// askWrites asks for the outputs of tasks for which nothing shows them.
func (a *app) askWrites(f adoptFlags, s *survey.Survey, p *adopt.Proposal) error {
	for _, x := range p.Projects {
		for _, t := range x.Tasks {
			if t.Sort != survey.Reusable || t.Writes != nil {
				continue
			}
			text, err := a.answer(
				f,
				fmt.Sprintf(
					"What does %s in %s write? Patterns separated by commas, \"nothing\", or \"unknown\" (the task then always runs)",
					t.Name,
					here(x.Dir),
				),
				"unknown",
			)
			if err != nil {
				return err
			}
			switch text {
			case "unknown":
			case "nothing":
				t.Writes = []string{}
			default:
				for w := range strings.SplitSeq(text, ",") {
					t.Writes = append(t.Writes, strings.TrimSpace(w))
				}
			}
		}
	}
	return nil
}

// askSkip asks what of a proposal the team does not want. It is recorded, so that a later
// call does not propose it again.
func (a *app) askSkip(f adoptFlags) ([]string, error) {
	text, err := a.answer(
		f, "Should some of it never be proposed? Name tasks such as lint@web, or directories, separated by commas", "none",
	)
	if err != nil || text == "none" {
		return nil, err
	}
	var out []string
	for one := range strings.SplitSeq(text, ",") {
		if one = strings.TrimSpace(one); one != "" {
			out = append(out, one)
		}
	}
	return out, nil
}

// answer asks one question; Enter accepts the value in brackets.
func (a *app) answer(f adoptFlags, question, standard string) (string, error) {
	if f.yes {
		return standard, nil
	}
	fmt.Fprintf(a.Out, "%s [%s] ", question, standard)
	line, err := a.in.ReadString('\n')
	if err != nil && strings.TrimSpace(line) == "" {
		return "", errNoAnswer
	}
	if text := strings.TrimSpace(line); text != "" {
		return text, nil
	}
	return standard, nil
}

// choose asks until the answer is one of the choices, or a unique prefix of
// one.
func (a *app) choose(f adoptFlags, question, standard string, among []string) (string, error) {
	for {
		text, err := a.answer(f, fmt.Sprintf("%s (%s)", question, strings.Join(among, ", ")), standard)
		if err != nil {
			return "", err
		}
		var fits []string
		for _, c := range among {
			if c == text {
				return c, nil
			}
			if strings.HasPrefix(c, strings.ToLower(text)) {
				fits = append(fits, c)
			}
		}
		if len(fits) == 1 {
			return fits[0], nil
		}
		fmt.Fprintf(a.Out, "Please answer with one of: %s.\n", strings.Join(among, ", "))
	}
}

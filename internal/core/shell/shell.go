// Package shell reads which programs a command of a shell starts, as far as its text tells. It
// runs nothing.
package shell

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// Programs returns the words by which a text for a POSIX shell starts programs, each once, in order.
// What the shell does itself is left out, and so are functions of the text. The error says why
// there may be others.
func Programs(text string) ([]string, error) {
	if !strings.ContainsAny(text, "&|;<>()$`\"'\\\n{}!=#~") { // most of them
		words := strings.Fields(text)
		if len(words) == 0 || slices.Contains(builtins, words[0]) {
			return nil, nil
		}
		return words[:1], Plain(words[0])
	}
	f, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).Parse(strings.NewReader(text), "")
	if err != nil {
		return nil, errors.New("its command is not read as one of a POSIX shell")
	}
	own := map[string]bool{}
	var words []string
	syntax.Walk(f, func(n syntax.Node) bool {
		switch x := n.(type) {
		case *syntax.FuncDecl:
			own[x.Name.Value] = true
		case *syntax.CallExpr:
			if len(x.Args) == 0 {
				break
			}
			word := x.Args[0].Lit()
			if word == "" {
				err = errors.New("the shell computes which program it starts")
			} else if e := Plain(word); e != nil {
				err = e
			} else if !slices.Contains(words, word) && !slices.Contains(builtins, word) {
				words = append(words, word)
			}
		}
		return true
	})
	return slices.DeleteFunc(words, func(w string) bool { return own[w] }), err
}

// builtins are the commands of a POSIX shell that start nothing
// (https://pubs.opengroup.org/onlinepubs/9799919799/utilities/V3_chap02.html#tag_19_15).
var builtins = strings.Fields(
	": [ break cd continue echo exit export false printf pwd read readonly return set shift test times trap true umask unset wait",
)

// starters start a program that one of their arguments names, or a text.
var starters = strings.Fields(". command env eval exec nice nohup source time timeout xargs")

// Plain returns an error if a word starts a program that another word names.
func Plain(word string) error {
	if slices.Contains(starters, path.Base(word)) {
		return fmt.Errorf("%s starts another program", word)
	}
	return nil
}

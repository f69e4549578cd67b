package makefile

import (
	"strings"
	"testing"
)

func TestVariablesAreExpanded(t *testing.T) {
	v := VariablesOf("OUT = build\nAPP := $(OUT)/ferry # the program\nLIST = a\nLIST += b \\\nc\nexport IMG ?= skerry/$(APP)\nIMG ?= other\n" +
		"LOOP = $(LOOP) x\nBOTH ::= ${LIST}\nrule: $(APP)\n\tINNER = no\nifdef X\nMODE=$(shell git describe)\nendif\n")
	for text, want := range map[string]string{
		"cp x $(APP)": "cp x build/ferry", "echo ${BOTH} $@ $(UNKNOWN)": "echo a b  c $@ $(UNKNOWN)", "$(MODE)": "$(shell git describe)",
		"push $(IMG)": "push $(IMG)\n# IMG = skerry/$(APP)\n", "$(INNER)": "$(INNER)", "$$(APP)": "$$(APP)", "plain": "plain",
	} {
		if got := v.Expand(text); got != want {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
	if got := v.Expand("$(LOOP)"); len(got) > 100 || !strings.HasSuffix(got, "x") {
		t.Errorf("a variable with itself: %q", got)
	}
	double := Variables{"A": {Value: strings.Repeat("$(A)", 100)}}
	if got := double.Expand("$(A)"); len(got) > 2*mostExpanded {
		t.Errorf("%d bytes", len(got))
	}
}

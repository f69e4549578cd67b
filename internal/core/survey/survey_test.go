package survey_test

import "grayloft.example/grayloft/internal/core/adopt/sample"

// What tests of all files use.
var (
	repo    = sample.Repo
	propose = sample.Propose
	of      = sample.Of
	needs   = sample.Needs
)

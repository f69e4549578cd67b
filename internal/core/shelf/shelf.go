// Package shelf has the rules of shelves that need no database: which shelf a
// pattern names, how many bytes a shelf may hold, and which shelf loses how many
// when a repository is full. Nothing on one untrusted shelf can make another
// shelf lose entries, as long as the other stays within its share.
package shelf

import (
	"cmp"
	"slices"
	"strings"
)

// Trusted is the shelf that everyone reads from, and only CI on protected
// branches writes to.
const Trusted = "trusted"

// Matches tells whether a pattern, "trusted" or "branch/*", names a shelf.
func Matches(pattern, name string) bool {
	if head, ok := strings.CutSuffix(pattern, "*"); ok {
		return strings.HasPrefix(name, head) && len(name) > len(head)
	}
	return pattern == name
}

// untrustedShare is the part of a repository's quota that is guaranteed to all
// untrusted shelves together, and at the same time the most that one of them may
// hold, unless it has a quota of its own.
const untrustedShare = 4 // a quarter

// Share returns the bytes that all untrusted shelves together are guaranteed.
func Share(quota int64) int64 { return quota / untrustedShare }

// Quota is the quota of the shelves that match a pattern.
type Quota struct {
	Pattern string `db:"pattern" json:"pattern"`
	Bytes   int64  `db:"bytes" json:"bytes"`
}

// Limit returns how many bytes the shelves of an owner may hold; 0 is no limit of
// their own. The owner is a shelf or a pattern of shelves. The longest pattern
// that matches holds.
func Limit(owner string, quota int64, own []Quota) int64 {
	best := Quota{}
	for _, q := range own {
		if (q.Pattern == owner || Matches(q.Pattern, owner)) && len(q.Pattern) > len(best.Pattern) {
			best = q
		}
	}
	switch {
	case best.Bytes > 0:
		return best.Bytes
	case owner == Trusted:
		return 0
	}
	return Share(quota)
}

// Charge is how many bytes the entries of a shelf name.
type Charge struct {
	Shelf string `db:"shelf"`
	Bytes int64  `db:"bytes"`
}

// Losses says how many bytes of entries each shelf loses, so that a repository
// with that quota gets that many free. Untrusted shelves lose what they hold
// above their guaranteed share, the largest first; then the trusted shelf loses;
// only then untrusted shelves lose the rest.
func Losses(charges []Charge, quota, need int64) []Charge {
	left := map[string]int64{}
	untrusted := int64(0)
	for _, c := range charges {
		left[c.Shelf] = c.Bytes
		if c.Shelf != Trusted {
			untrusted += c.Bytes
		}
	}
	need -= level(left, min(need, untrusted-Share(quota)))
	if trusted := min(need, left[Trusted]); trusted > 0 {
		left[Trusted] -= trusted
		need -= trusted
	}
	level(left, need)
	var out []Charge
	for _, c := range charges {
		if lost := c.Bytes - left[c.Shelf]; lost > 0 {
			out = append(out, Charge{c.Shelf, lost})
		}
	}
	return out
}

// level takes bytes from the largest untrusted shelves until they are no larger
// than the next ones, and returns how many it took.
func level(left map[string]int64, need int64) int64 {
	var names []string
	for name := range left {
		if name != Trusted {
			names = append(names, name)
		}
	}
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(cmp.Compare(left[b], left[a]), cmp.Compare(a, b))
	})
	taken := int64(0)
	for i := range names {
		if taken >= need {
			break
		}
		next := int64(0)
		if i+1 < len(names) {
			next = left[names[i+1]]
		}
		// All shelves up to this one are of equal size here.
		n := int64(i + 1)
		each := min(left[names[i]]-next, (need-taken+n-1)/n)
		for _, name := range names[:i+1] {
			left[name] -= each
			taken += each
		}
	}
	return taken
}

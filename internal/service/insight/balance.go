package insight

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// groupings are the columns by which a balance is grouped.
var groupings = map[string]string{"place": "r.place", "branch": "r.branch", "person": "r.name", "shelf": "r.shelf"}

// Groupings tells whether a balance can be grouped by something.
func Groupings(by string) bool { return groupings[by] != "" }

// mostGroups is how many groups a balance has; the others are added up under
// the last name.
const mostGroups = 12

// otherGroups is the name under which the remaining groups are added up.
const otherGroups = "others"

// balanceRow is one interval of one group.
type balanceRow struct {
	Group    string  `db:"g"`
	N        int     `db:"n"`
	Runs     int     `db:"runs"`
	Failed   int     `db:"failed"`
	Seconds  float64 `db:"seconds"`
	Saved    float64 `db:"saved"`
	Cost     float64 `db:"cost"`
	Fetching float64 `db:"fetching"`
	In       int64   `db:"bytes_in"`
	Out      int64   `db:"bytes_out"`
	Reused   int64   `db:"reused"`
	Executed int64   `db:"executed"`
}

func (r balanceRow) figures() protocol.Figures {
	return protocol.Figures{
		Runs: r.Runs, Failed: r.Failed, Seconds: r.Seconds, SavedSeconds: r.Saved, CostSeconds: r.Cost, FetchSeconds: r.Fetching,
		BytesIn: r.In, BytesOut: r.Out, Reused: r.Reused, Executed: r.Executed,
	}
}

// Balance returns what runs saved and what sharing cost, in equal intervals of
// time, for each place, branch, person or shelf. The intervals are whole hours
// if the filter is one that the rollups can answer; otherwise the rows of the
// runs are added up, one for each run.
func (r Reader) Balance(ctx context.Context, f records.RunFilter, by string, intervals int) (protocol.Balance, error) {
	since, until := f.Since, f.Until
	width := until.Sub(since).Seconds() / float64(intervals)
	if isRolled(f) {
		width = max(3600, float64(int(width+3599)/3600*3600))
		since = since.UTC().Truncate(time.Hour)
	}
	b := protocol.Balance{Since: since.UTC(), Until: until.UTC(), IntervalSeconds: width, By: by, Groups: []protocol.GroupBalance{}}
	rows, err := r.balanceRows(ctx, f, by, grid{since, width})
	if err != nil {
		return b, err
	}
	b.Groups = grouped(rows, func(n int) time.Time {
		return since.Add(time.Duration((float64(n) + 0.5) * width * float64(time.Second))).UTC()
	})
	for _, g := range b.Groups {
		b.Total.Add(g.Total)
	}
	return b, nil
}

// isRolled tells whether the rollups of runs can answer a filter.
func isRolled(f records.RunFilter) bool {
	f.Since, f.Until, f.Person, f.Branch, f.Place, f.Shelf = time.Time{}, time.Time{}, "", "", "", ""
	return f == records.RunFilter{}
}

// grid divides time into intervals of a width in seconds.
type grid struct {
	since time.Time
	width float64
}

func (r Reader) balanceRows(ctx context.Context, f records.RunFilter, by string, g grid) (rows []balanceRow, err error) {
	if !isRolled(f) {
		condition, args, err := r.DB.RunConditions(ctx, r.Repository, f)
		if err != nil {
			return nil, err
		}
		n := len(args)
		args = append(args, g.since, g.width)
		return rows, r.DB.SelectContext(ctx, &rows, fmt.Sprintf(`
			SELECT %s AS g, floor(extract(epoch FROM r.began - $%d::timestamptz) / $%d)::int AS n, count(*) AS runs,
				count(*) FILTER (WHERE r.finished_at IS NOT NULL AND NOT r.ok AND NOT r.interrupted) AS failed,
				sum(r.seconds) AS seconds, sum(r.saved_seconds) AS saved, sum(r.cost_seconds) AS cost, sum(r.fetch_seconds) AS fetching,
				sum(r.bytes_in)::bigint AS bytes_in, sum(r.bytes_out)::bigint AS bytes_out,
				sum(r.n_cached + r.n_restored + r.n_fetched) AS reused, sum(r.n_ran + r.n_failed) AS executed
			FROM runs r WHERE %s AND %s GROUP BY 1, 2`, groupings[by], n+1, n+2, condition, records.Ended), args...)
	}
	column := map[string]string{"place": "place", "branch": "branch", "person": "person", "shelf": "shelf"}[by]
	return rows, r.DB.SelectContext(ctx, &rows, `
		SELECT `+column+` AS g, floor(extract(epoch FROM hour - $2::timestamptz) / $4)::int AS n, sum(runs) AS runs, sum(failed) AS failed,
			sum(seconds) AS seconds, sum(saved_seconds) AS saved, sum(cost_seconds) AS cost, sum(fetch_seconds) AS fetching,
			sum(bytes_in)::bigint AS bytes_in, sum(bytes_out)::bigint AS bytes_out, sum(reused) AS reused, sum(executed) AS executed
		FROM run_hours WHERE repository_id = $1 AND hour >= $2 AND hour < $3 AND ($5 = '' OR person = $5) AND ($6 = '' OR branch = $6)
			AND ($7 = '' OR place = $7) AND ($8 = '' OR shelf = $8)
		GROUP BY 1, 2`, r.Repository, g.since, f.Until, g.width, f.Person, f.Branch, f.Place, f.Shelf)
}

// grouped joins rows to groups, the one that saved most first. At says when an
// interval is.
func grouped(rows []balanceRow, at func(n int) time.Time) []protocol.GroupBalance {
	totals := map[string]protocol.Figures{}
	for _, r := range rows {
		sum := totals[r.Group]
		sum.Add(r.figures())
		totals[r.Group] = sum
	}
	names := make([]string, 0, len(totals))
	for name := range totals {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		x, y := totals[a], totals[b]
		switch {
		case x.SavedSeconds != y.SavedSeconds && x.SavedSeconds > y.SavedSeconds, x.SavedSeconds == y.SavedSeconds && a < b:
			return -1
		}
		return 1
	})
	as := map[string]string{}
	for i, name := range names {
		as[name] = name
		if len(names) > mostGroups && i >= mostGroups-1 {
			as[name] = otherGroups
		}
	}
	return points(rows, as, at)
}

// points joins rows to the groups that they are shown as.
func points(rows []balanceRow, as map[string]string, at func(n int) time.Time) []protocol.GroupBalance {
	out, index := []protocol.GroupBalance{}, map[string]int{}
	sums := map[string]map[int]protocol.Figures{}
	for _, r := range rows {
		name := as[r.Group]
		if _, known := index[name]; !known {
			index[name] = len(out)
			out = append(out, protocol.GroupBalance{Name: name, Points: []protocol.BalancePoint{}})
			sums[name] = map[int]protocol.Figures{}
		}
		sum := sums[name][r.N]
		sum.Add(r.figures())
		sums[name][r.N] = sum
		out[index[name]].Total.Add(r.figures())
	}
	for i := range out {
		for n, f := range sums[out[i].Name] {
			out[i].Points = append(out[i].Points, protocol.BalancePoint{At: at(n), Figures: f})
		}
		slices.SortFunc(out[i].Points, func(a, b protocol.BalancePoint) int { return a.At.Compare(b.At) })
	}
	slices.SortStableFunc(out, func(a, b protocol.GroupBalance) int {
		if a.Name == otherGroups != (b.Name == otherGroups) {
			return map[bool]int{true: 1, false: -1}[a.Name == otherGroups]
		}
		return cmp.Compare(b.Total.SavedSeconds, a.Total.SavedSeconds)
	})
	return out
}

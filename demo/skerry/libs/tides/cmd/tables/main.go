// Command tables prints a year of high and low waters for every port, and the
// highest and lowest of a whole nodal cycle, which is 18.6 years long.
package main

import (
	"bufio"
	"fmt"
	"os"
	"sort"
	"strconv"
	"strings"

	"skerry.example/tides"
)

// In hours.
const (
	year  = 365 * 24
	cycle = 18.6 * 365.25 * 24
)

func main() {
	f, err := os.Open("constituents.csv")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	defer f.Close()
	ports := map[string][]tides.Constituent{}
	sc := bufio.NewScanner(f)
	for sc.Scan() {
		line := strings.TrimSpace(sc.Text())
		if line == "" || line[0] == '#' {
			continue
		}
		p := strings.Split(line, ",")
		num := func(i int) float64 { v, _ := strconv.ParseFloat(strings.TrimSpace(p[i]), 64); return v }
		ports[p[0]] = append(ports[p[0]], tides.Constituent{Name: p[1], Amplitude: num(2), Speed: num(3), Phase: num(4)})
	}
	var names []string
	for n := range ports {
		names = append(names, n)
	}
	sort.Strings(names)
	out := bufio.NewWriter(os.Stdout)
	defer out.Flush()
	for _, n := range names {
		least, most := 0.0, 0.0
		for _, e := range tides.Extremes(ports[n], 0, cycle) {
			least, most = min(least, e.Height), max(most, e.Height)
			if e.Hours >= year {
				continue
			}
			what := "low"
			if e.High {
				what = "high"
			}
			fmt.Fprintf(out, "%s,%.2f,%s,%.2f\n", n, e.Hours, what, e.Height)
		}
		fmt.Fprintf(out, "%s,,range,%.2f\n", n, most-least)
		fmt.Fprintf(os.Stderr, "%s: %.2f to %.2f m\n", n, least, most)
	}
}

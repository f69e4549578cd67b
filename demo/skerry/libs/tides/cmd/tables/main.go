// Command tables prints a year of high and low waters for every port.
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
		for _, e := range tides.Extremes(ports[n], 0, 365*24) {
			what := "low"
			if e.High {
				what = "high"
			}
			fmt.Fprintf(out, "%s,%.2f,%s,%.2f\n", n, e.Hours, what, e.Height)
		}
		fmt.Fprintf(os.Stderr, "%s: done\n", n)
	}
}

// Command sailings answers which sailings there are.
package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"time"

	"quay.example/logline"
	"skerry.example/tides"
	"skerry.example/timetable"
	wire "skerry.example/wire-schema/gen"
)

func sailings(route string, berth timetable.Berth) []wire.Sailing {
	out := []wire.Sailing{}
	for _, w := range timetable.Windows(berth, 0, 24) {
		out = append(out, wire.Sailing{Route: route, Hour: int(w.From)})
	}
	return out
}

func main() {
	berth := timetable.Berth{
		Port:  "eelport",
		Tides: []tides.Constituent{{Name: "M2", Amplitude: 1.61, Speed: 28.9841042, Phase: 126.9}},
	}
	http.HandleFunc("/sailings", func(w http.ResponseWriter, r *http.Request) {
		_ = json.NewEncoder(w).Encode(sailings(r.URL.Query().Get("route"), berth))
	})
	fmt.Fprintln(os.Stderr, logline.Line(time.Now(), "sailings answers", "127.0.0.1:9102"))
	if err := http.ListenAndServe("127.0.0.1:9102", nil); err != nil {
		fmt.Fprintln(os.Stderr, logline.Line(time.Now(), "sailings ends", err.Error()))
		os.Exit(1)
	}
}

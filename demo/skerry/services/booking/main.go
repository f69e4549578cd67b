// Command booking takes bookings and prices them.
package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"time"

	"quay.example/logline"
	"skerry.example/fares"
	"skerry.example/money"
	wire "skerry.example/wire-schema/gen"
)

var rates = fares.Rates{Young: 500, Bike: 250, Rough: 900}

func price(b wire.Booking, base money.Amount) money.Amount {
	return fares.Price(fares.Ticket{Base: base, Adults: b.Adults, Young: b.Young}, rates, nil)
}

func handle(w http.ResponseWriter, r *http.Request) {
	var b wire.Booking
	if err := json.NewDecoder(r.Body).Decode(&b); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	_ = json.NewEncoder(w).Encode(map[string]string{"price": price(b, 1450).String()})
}

func main() {
	http.HandleFunc("/book", handle)
	fmt.Fprintln(os.Stderr, logline.Line(time.Now(), "booking answers", "127.0.0.1:9101"))
	if err := http.ListenAndServe("127.0.0.1:9101", nil); err != nil {
		fmt.Fprintln(os.Stderr, logline.Line(time.Now(), "booking ends", err.Error()))
		os.Exit(1)
	}
}

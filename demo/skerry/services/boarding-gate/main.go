// Command boarding-gate lets passengers through who have paid.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"time"

	"quay.example/logline"
	wire "skerry.example/wire-schema/gen"
)

func admit(b wire.Booking) string {
	switch {
	case b.Id == "":
		return "no ticket"
	case !b.Paid:
		return "pay at the desk"
	}
	return "welcome aboard"
}

func main() {
	in := bufio.NewScanner(os.Stdin)
	for in.Scan() {
		var b wire.Booking
		if err := json.Unmarshal(in.Bytes(), &b); err != nil {
			fmt.Println("cannot read this ticket")
			fmt.Fprintln(os.Stderr, logline.Line(time.Now(), "a ticket cannot be read", err.Error()))
			continue
		}
		fmt.Println(admit(b))
	}
}

// Package money adds and rounds amounts in the smallest coin.
package money

import "fmt"

// Amount is a number of pence.
type Amount int64

// Times multiplies by a share of a thousand, rounding half up.
func (a Amount) Times(perMille int64) Amount {
	n := int64(a) * perMille
	if n < 0 {
		return -Amount((-n + 499) / 1000)
	}
	return Amount((n + 500) / 1000)
}

// String writes pounds and pence.
func (a Amount) String() string {
	sign := ""
	if a < 0 {
		sign, a = "-", -a
	}
	return fmt.Sprintf("%s£%d.%02d", sign, a/100, a%100)
}

// Package send words notices.
package send

import (
	"fmt"

	wire "skerry.example/wire-schema/gen"
)

// Text words a cancellation in at most so many characters.
func Text(c wire.Cancellation, most int) string {
	s := []rune(fmt.Sprintf("Your crossing %s is cancelled: %s. We are sorry.", c.Id, c.Why))
	if len(s) > most {
		s = append(s[:most-1], '…')
	}
	return string(s)
}

package wireschema

import (
	"encoding/json"
	"testing"

	wire "skerry.example/wire-schema/gen"
)

func TestBookingTravels(t *testing.T) {
	b, err := json.Marshal(wire.Booking{Id: "k7", Route: "eelport", Adults: 2})
	if err != nil {
		t.Fatal(err)
	}
	var back wire.Booking
	if err := json.Unmarshal(b, &back); err != nil || back.Adults != 2 {
		t.Errorf("%s came back as %+v, %v", b, back, err)
	}
}

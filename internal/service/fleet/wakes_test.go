package fleet

import (
	"fmt"
	"testing"
)

// Ids can be made up: nothing is kept about one that nobody waits for.
func TestNothingIsKeptOfWhatNobodyWaitsFor(t *testing.T) {
	w := wakes{on: map[string]*wake{}}
	for i := range 1000 {
		_, leave := w.next(fmt.Sprint("request ", i))
		leave()
	}
	if len(w.on) != 0 {
		t.Errorf("%d are kept", len(w.on))
	}
	first, leaveFirst := w.next("x")
	second, leaveSecond := w.next("x")
	leaveFirst()
	w.call("x")
	for _, news := range []<-chan struct{}{first, second} {
		select {
		case <-news:
		default:
			t.Error("one who waits was not woken")
		}
	}
	third, leaveThird := w.next("x")
	leaveSecond() // of the news before
	w.call("x")
	select {
	case <-third:
	default:
		t.Error("one who left late took the channel of another one along")
	}
	leaveThird()
	if len(w.on) != 0 {
		t.Errorf("%d are kept", len(w.on))
	}
}

package store

import (
	"fmt"
	"os"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

func TestAWithdrawnResultIsNeverOfferedAgain(t *testing.T) {
	s := open(t)
	list := func(text string) digest.Digest {
		d, err := s.Put([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	k, other := digest.Of([]byte("key")), digest.Of([]byte("another key"))
	wrong, right := list("wrong"), list("right")
	from, shelf := Origin{Repo: "r"}, Origin{Repo: "r", Service: "s", Shelf: "trusted"}
	put := func(k, list digest.Digest, o Origin) error {
		_, err := s.PutEntry(protocol.Entry{Key: k, Listing: list, Task: "build@a"}, o)
		return err
	}
	for _, o := range []Origin{from, shelf} {
		if err := put(k, wrong, o); err != nil {
			t.Fatal(err)
		}
	}
	if err := put(other, wrong, from); err != nil {
		t.Fatal(err)
	}
	before := s.Withdrawals()
	for range 2 {
		if err := s.Withdraw(k, wrong); err != nil {
			t.Fatal(err)
		}
	}
	if s.Withdrawals() == before {
		t.Error("what depends on withdrawals does not see that there is one")
	}
	for _, o := range []Origin{from, shelf} {
		if e, ok := s.Entry(k, o); ok {
			t.Errorf("offered: %v", e)
		}
		if err := put(k, wrong, o); err == nil {
			t.Error("the withdrawn result was kept again")
		}
		if err := put(k, right, o); err != nil {
			t.Error(err)
		}
		if e, ok := s.Entry(k, o); !ok || e.Listing != right {
			t.Errorf("the right one: %v, %v", e, ok)
		}
	}
	if _, ok := s.Entry(other, from); !ok {
		t.Error("the same outputs under another key are withdrawn, too")
	}
}

func TestWithdrawalsHaveABound(t *testing.T) {
	s := open(t)
	for i := range 20 {
		if err := s.Withdraw(digest.Of(fmt.Append(nil, i)), digest.Of(nil)); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.trimWithdrawn(5); err != nil {
		t.Fatal(err)
	}
	if list, err := os.ReadDir(s.withdrawnDir()); err != nil || len(list) != 5 {
		t.Errorf("%d are left, %v", len(list), err)
	}
}

// A result that is right in one checkout alone is not found from another one.
func TestAResultOfOneCheckoutStaysThere(t *testing.T) {
	s := open(t)
	k := digest.Of([]byte("key"))
	list, err := s.Put([]byte("list"))
	if err != nil {
		t.Fatal(err)
	}
	here := Origin{Repo: "r", Checkout: "/home/one"}
	if _, err := s.PutMade(protocol.Entry{Key: k, Listing: list}, here, true); err != nil {
		t.Fatal(err)
	}
	for o, want := range map[Origin]bool{here: true, {Repo: "r", Checkout: "/home/two"}: false, {Repo: "r"}: false} {
		if _, ok := s.Entry(k, o); ok != want {
			t.Errorf("from %+v: %v", o, ok)
		}
	}
	if list, err := s.Shareable("r"); err != nil || len(list) != 0 {
		t.Errorf("to be shared: %v, %v", list, err)
	}
}

package main

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

func TestABookingIsPriced(t *testing.T) {
	w := httptest.NewRecorder()
	handle(w, httptest.NewRequest(http.MethodPost, "/book", strings.NewReader(`{"adults":2,"young":1}`)))
	if got := w.Body.String(); !strings.Contains(got, "£36.25") {
		t.Errorf("answered %s", got)
	}
}

func TestNonsenseIsRefused(t *testing.T) {
	w := httptest.NewRecorder()
	handle(w, httptest.NewRequest(http.MethodPost, "/book", strings.NewReader("?")))
	if w.Code != http.StatusBadRequest {
		t.Errorf("status %d", w.Code)
	}
}

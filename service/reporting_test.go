package service

import (
	"context"
	"testing"

	"airdrift/books"
)

// While as many reports are made as may be at once, a further one is not begun: who asks for many of them cannot take the memory.
func TestReportsWaitForOthers(t *testing.T) {
	s := &Service{reporting: make(chan struct{}, 1)} // without books, so that making one would fail otherwise
	s.reporting <- struct{}{}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := s.makeReport(ctx, books.ReportQuery{}, "html", ReportInput{}, ""); err == nil {
		t.Error("a report was made of nothing")
	}
	if len(s.reporting) != 1 {
		t.Error("who gave up waiting has let go of what was never held")
	}
}

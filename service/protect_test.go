package service

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// What takes longer than a body may take to come in is carried out to its end: the deadline for reading, which each operation sets before it reads, is no
// deadline for the work. Short bodies are read beforehand, and long ones by the operation.
func TestDeadlineOfTheBodyIsNotThatOfTheWork(t *testing.T) {
	t.Parallel()
	const forReading = 50 * time.Millisecond
	s := &Service{}
	server := httptest.NewServer(s.admit(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_ = http.NewResponseController(w).SetReadDeadline(time.Now().Add(forReading))
		if _, err := io.Copy(io.Discard, r.Body); err != nil {
			http.Error(w, err.Error(), http.StatusRequestTimeout)
			return
		}
		select {
		case <-r.Context().Done():
			http.Error(w, "broken off: "+r.Context().Err().Error(), http.StatusServiceUnavailable)
		case <-time.After(4 * forReading): // the work
		}
	})))
	defer server.Close()
	for name, body := range map[string]string{"short": `{"kind":"note"}`, "long": strings.Repeat("x", 2*maxShort)} {
		resp, err := http.Post(server.URL, "text/plain", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			t.Errorf("with a %s body: status %d, %s", name, resp.StatusCode, text)
		}
	}
}

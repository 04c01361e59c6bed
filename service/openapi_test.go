package service_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"net/http"
	"net/http/httptest"
	"os"
	"testing"

	"airdrift/service"
	"airdrift/spool"
	"airdrift/store/storetest"
)

var update = flag.Bool("update", false, "write docs/openapi.json anew")

const openAPIFile = "../docs/openapi.json"

// TestOpenAPI holds the committed description of the API against the code. make api writes it anew.
func TestOpenAPI(t *testing.T) {
	t.Parallel()
	journals, err := spool.Open(t.TempDir(), 0)
	if err != nil {
		t.Fatal(err)
	}
	s, err := service.New(t.Context(), service.Config{Store: storetest.Open(t), Spool: journals, Vantages: service.FixedVantages{}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	recorder := httptest.NewRecorder()
	s.Handler().ServeHTTP(recorder, httptest.NewRequest(http.MethodGet, "http://127.0.0.1/openapi.json", nil))
	var got bytes.Buffer
	if err := json.Indent(&got, recorder.Body.Bytes(), "", " "); err != nil {
		t.Fatal(err)
	}
	got.WriteByte('\n')
	if *update {
		if err := os.WriteFile(openAPIFile, got.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(openAPIFile)
	if err != nil || !bytes.Equal(got.Bytes(), want) {
		t.Errorf("%s is not what the code says (%v): run make api", openAPIFile, err)
	}
}

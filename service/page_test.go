package service_test

import (
	"encoding/base64"
	"net/http"
	"net/url"
	"testing"

	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// A cursor is anybody's text: none brings a list down, whatever stands in it.
func TestHostileCursors(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	sweepOf(t, s, "10.40.1.40-48")
	sweepOf(t, s, "10.40.1.40-48")
	for _, path := range []string{
		"/api/v1/sites/1/devices?sort=lastSeen", "/api/v1/sites/1/devices?sort=strength&descend=true", "/api/v1/sites/1/devices?", "/api/v1/sites/1/changes?", "/api/v1/sites/1/tenures?", "/api/v1/sites/1/sweeps?",
		"/api/v1/sites/1/register?", "/api/v1/sweeps/1/sightings?", "/api/v1/sweeps/1/comparison/2?", "/api/v1/devices/1/history?", "/api/v1/audit?",
	} {
		for _, mark := range []string{
			"-1", "null", "1e99", "9223372036854775807", `"x"`, "[]", "{}", `{"ID":-1}`, `{"Value":"garden","Addr":"CigBLQ==","ID":3}`, `{"Value":"9999-99-99","Addr":null,"ID":1}`,
			`{"Began":"0000-01-01T00:00:00Z","ID":1}`, `{"Until":"9999-12-31T23:59:59Z","Since":"0001-01-01T00:00:00Z","ID":1}`, `{"Addr":"","MAC":"AAAA","Unit":"\u0000'"}`, "\x00", "not JSON",
		} {
			cursor := url.QueryEscape(base64.RawURLEncoding.EncodeToString([]byte(mark)))
			resp, text := asks(t, s, http.MethodGet, path+"&cursor="+cursor, nil, nil)
			if resp.StatusCode != http.StatusOK && resp.StatusCode != http.StatusUnprocessableEntity {
				t.Errorf("%s with the cursor %s: %d %s", path, mark, resp.StatusCode, text)
			}
		}
	}
}

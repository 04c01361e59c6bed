package service

import (
	"net"
	"path/filepath"
	"testing"
	"time"
)

// The certificate that the service makes is renewed before it ends and when the machine has other addresses, while the service
// runs; its key, which others have pinned, stays.
func TestCertificateIsRenewedWhileRunning(t *testing.T) {
	dir := t.TempDir()
	now := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	addresses := []net.IP{net.IPv4(10, 40, 1, 9)}
	made := &madeCertificate{
		certificate: filepath.Join(dir, "c.pem"), key: filepath.Join(dir, "k.pem"), now: func() time.Time { return now }, wanted: func() []net.IP { return addresses },
	}
	show := func() (serial, pin string) {
		t.Helper()
		pair, err := made.current()
		if err != nil {
			t.Fatal(err)
		}
		if now.After(pair.Leaf.NotAfter) || pair.Leaf.VerifyHostname(addresses[0].String()) != nil {
			t.Errorf("at %s the certificate is for %v until %s", now, pair.Leaf.IPAddresses, pair.Leaf.NotAfter)
		}
		return pair.Leaf.SerialNumber.String(), pinOf(*pair)
	}
	first, pin := show()
	now = now.Add(time.Hour)
	if again, _ := show(); again != first {
		t.Error("a good certificate was made anew")
	}
	addresses = []net.IP{net.IPv4(10, 40, 1, 77)}
	now = now.Add(lookEvery)
	second, samePin := show()
	if second == first || samePin != pin {
		t.Error("with another address there is no other certificate of the same key")
	}
	now = now.Add(certificateLife - renewBefore + time.Hour)
	third, samePin := show()
	if third == second || samePin != pin {
		t.Error("shortly before the end there is no other certificate of the same key")
	}
	next := &madeCertificate{certificate: made.certificate, key: made.key, now: made.now, wanted: made.wanted}
	pair, err := next.current()
	if err != nil || pair.Leaf.SerialNumber.String() != third {
		t.Errorf("the next start shows another certificate, %v", err)
	}
}

func TestSessionsEnd(t *testing.T) {
	start := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	use := func(s *sessions, secret string, after time.Duration, attended bool) bool {
		_, good := s.use(keyOf(secret), start.Add(after), attended)
		return good
	}
	s := &sessions{idle: 30 * time.Minute}
	left := s.begin(1, "10.40.1.9", start)
	for after := 10 * time.Minute; after < 30*time.Minute; after += 10 * time.Minute {
		if !use(s, left, after, false) {
			t.Fatalf("it has ended after %s", after)
		}
	}
	if use(s, left, 31*time.Minute, false) {
		t.Error("a page that is left open keeps a session alive")
	}
	used := s.begin(1, "10.40.1.9", start)
	for after := time.Duration(0); after < sessionLife; after += 20 * time.Minute {
		if !use(s, used, after, true) {
			t.Fatalf("one that is used has ended after %s", after)
		}
	}
	if use(s, used, sessionLife+time.Minute, true) {
		t.Error("a session is good for ever")
	}
	first := s.begin(2, "10.40.1.9", start)
	for i := range maxSessions {
		s.begin(2, "10.40.1.9", start.Add(time.Duration(i+1)*time.Second))
	}
	if use(s, first, time.Minute, true) || len(s.of(2, start)) != maxSessions {
		t.Errorf("%d sessions of one user are open", len(s.of(2, start)))
	}
}

package probe

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"io"
	"net"
	"net/netip"
	"net/textproto"
	"strings"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"golang.org/x/crypto/ssh"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
)

// noDialer is for exchanges that need no further connection.
type noDialer struct{}

func (noDialer) Dial(context.Context, string, netip.AddrPort, time.Duration) (net.Conn, error) {
	return nil, syscall.ECONNREFUSED
}

// firstWords asks what is behind a connection by the protocol of its port, if there is one.
func firstWords(ctx context.Context, d Dialer, conn net.Conn, addr netip.AddrPort) []evidence.Item {
	if p := At(addr.Port()); p != nil && p.When == nil {
		return p.FirstWords(ctx, Query{Dialer: d}, conn, addr, false)
	}
	conn.Close()
	return nil
}

// hear lets a scripted device talk at a port and gives what was learned as "key=value" texts.
func hear(t *testing.T, port uint16, device func(conn net.Conn)) []string {
	t.Helper()
	ours, theirs := net.Pipe()
	done := make(chan struct{})
	go func() {
		defer close(done)
		defer theirs.Close()
		device(theirs)
	}()
	items := firstWords(t.Context(), noDialer{}, ours, netip.AddrPortFrom(netip.MustParseAddr("10.40.1.9"), port))
	<-done
	texts := make([]string, len(items))
	for i, item := range items {
		if item.Port != evidence.TCP(port) || item.At.IsZero() {
			t.Errorf("%s has port %v and time %v", item.Key, item.Port, item.At)
		}
		texts[i] = item.Key + "=" + item.Value
	}
	return texts
}

// says is a device that says a text, and takes in whatever it is sent.
func says(text string) func(net.Conn) {
	return func(conn net.Conn) {
		go func() { _, _ = io.Copy(io.Discard, conn) }()
		_, _ = io.WriteString(conn, text)
	}
}

// answers is a device that waits for a request before it answers.
func answers(text string) func(net.Conn) {
	return func(conn net.Conn) {
		buf := make([]byte, 4096)
		if _, err := conn.Read(buf); err == nil {
			_, _ = io.WriteString(conn, text)
		}
	}
}

func TestFirstWords(t *testing.T) {
	page := "HTTP/1.1 200 OK\r\nServer: tqc/4\r\nContent-Type: text/html\r\n\r\n<html><head><title>\n Climate &amp; Co\n 900 </title></head>"
	tests := []struct {
		name   string
		port   uint16
		device func(net.Conn)
		want   string
	}{
		{"a web page", 80, answers(page), "http.status=200 http.server=tqc/4 http.title=Climate & Co 900"},
		{"a password page", 80, answers("HTTP/1.0 401 No\r\nWWW-Authenticate: Digest qop=auth, realm=\"Gaze \\\"5\\\"\"\r\n\r\n"), `http.status=401 http.realm=Gaze "5" http.sign-in=digest`},
		{"a page in Latin-1", 80, answers("HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=iso-8859-1\r\n\r\n<title>K\xe4lte</title>"), "http.status=200 http.title=Kälte"},
		{"a page that breaks off", 80, answers("HTTP/1.1 200 OK\r\nContent-Length: 5000\r\n\r\n<title>Half</title>"), "http.status=200 http.title=Half"},
		{"a title within a script", 80, answers("HTTP/1.1 200 OK\r\n\r\n<script>'<title>no</title>'</script><title>Yes</title>"), "http.status=200 http.title=Yes"},
		{"no HTTP at all", 80, answers("220 ready\r\n"), ""},
		{"FTP", 21, says("220 Climate 900 file service\r\n331 more"), "ftp.greeting=220 Climate 900 file service"},
		{"blank lines first", 21, says("\r\n\r\n220 late\r\n"), "ftp.greeting=220 late"},
		{"mail", 25, says("220 acorn.example ESMTP\r\n"), "mail.smtp=220 acorn.example ESMTP"},
		{"telnet with options", 23, says("\xff\xfd\x18\xff\xfa\x18\x01\xff\xf0\xff\xfb\x01Ballast 3000\r\nlogin: "), "text.telnet=Ballast 3000 text.telnet-options=DO:TTYPE WILL:ECHO"},
		{"invalid UTF-8", 21, says("220 \xff\xfe ready\r\n"), "ftp.greeting=220 \uFFFD ready"},
		{"RTSP", 554, answers("RTSP/1.0 200 OK\r\nCSeq: 1\r\nServer: Stream 1.8\r\n\r\n"), "rtsp.status=200 OK rtsp.server=Stream 1.8"},
		{"RTSP whose header breaks off", 554, answers("RTSP/1.0 401 Unauthorized\r\nServer: S\r\nCSe"), "rtsp.status=401 Unauthorized rtsp.server=S"},
		{"SSH that speaks of itself first", 22, answers("welcome\r\nSSH-1.99-old thing\r\n"), "ssh.greeting=SSH-1.99-old thing"},
		{"TLS that is none", 443, answers("HTTP/1.1 400 plain\r\n\r\n"), ""},
		{"a port that is only connected to", 9100, func(conn net.Conn) {
			if n, err := conn.Read(make([]byte, 1)); err != io.EOF {
				t.Errorf("a raw printing port was sent %d bytes, %v", n, err)
			}
		}, ""},
	}
	for _, tt := range tests {
		if got := strings.Join(hear(t, tt.port, tt.device), " "); got != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, got, tt.want)
		}
	}
}

func TestEndlessAndSilentDevicesAreBounded(t *testing.T) {
	endless := func(piece string) func(net.Conn) {
		return func(conn net.Conn) {
			go func() { _, _ = io.Copy(io.Discard, conn) }()
			for {
				if _, err := io.WriteString(conn, piece); err != nil {
					return
				}
			}
		}
	}
	hold := func(conn net.Conn) { _, _ = io.Copy(io.Discard, conn) }
	drip := func(conn net.Conn) {
		go func() { _, _ = io.Copy(io.Discard, conn) }()
		for {
			time.Sleep(400 * time.Millisecond) // on fake time
			if _, err := io.WriteString(conn, "H"); err != nil {
				return
			}
		}
	}
	for name, device := range map[string]func(net.Conn){
		"endless line": endless(strings.Repeat("x", 1000)), "endless lines": endless("X-A: b\r\n"), "silent": hold, "slow drip": drip,
	} {
		for _, port := range []uint16{21, 22, 80, 443, 554} {
			// Fake time: what would hang for ever fails at once as a deadlock.
			synctest.Test(t, func(t *testing.T) {
				start := time.Now()
				for _, text := range hear(t, port, device) {
					if len(text) > evidence.MaxValue+100 {
						t.Errorf("%s at port %d left %d bytes", name, port, len(text))
					}
				}
				// The device notices by its next word that nobody listens any more.
				if took := time.Since(start); took > exchangeWait+time.Second {
					t.Errorf("%s at port %d held the probe for %s", name, port, took)
				}
			})
		}
	}
}

func TestFirstWordsEndWithTheContext(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
		defer cancel()
		ours, theirs := net.Pipe()
		defer theirs.Close()
		start := time.Now()
		firstWords(ctx, noDialer{}, ours, netip.MustParseAddrPort("10.40.1.9:21"))
		if took := time.Since(start); took != 50*time.Millisecond {
			t.Errorf("it took %s, want the 50ms of the context", took)
		}
	})
}

func TestSSHHostKeyNeedsNoSignIn(t *testing.T) {
	signer, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, 32)))
	if err != nil {
		t.Fatal(err)
	}
	config := &ssh.ServerConfig{ServerVersion: "SSH-2.0-Ostermoor_5.1", PasswordCallback: func(c ssh.ConnMetadata, _ []byte) (*ssh.Permissions, error) {
		t.Errorf("somebody tried to sign in as %s", c.User())
		return nil, io.EOF
	}}
	config.AddHostKey(signer)
	// A pipe has no buffer, and both sides of SSH write first.
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	go func() {
		if conn, err := listener.Accept(); err == nil {
			_, _, _, _ = ssh.NewServerConn(conn, config)
			conn.Close()
		}
	}()
	conn, err := net.Dial("tcp", listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	items := firstWords(t.Context(), noDialer{}, conn, netip.MustParseAddrPort("127.0.0.1:22"))
	if got := evidence.First(items, keySSHHostKey); got != ssh.FingerprintSHA256(signer.PublicKey()) {
		t.Errorf("host key %q", got)
	}
	if got := evidence.First(items, evidence.KeySSHGreeting); got != "SSH-2.0-Ostermoor_5.1" {
		t.Errorf("greeting %q", got)
	}
}

// dialer fails in a given way.
type dialer struct{ err error }

func (d dialer) Dial(ctx context.Context, _ string, _ netip.AddrPort, wait time.Duration) (net.Conn, error) {
	if d.err == nil {
		ctx, cancel := context.WithTimeout(ctx, wait)
		defer cancel()
		<-ctx.Done()
		return nil, ctx.Err()
	}
	return nil, &net.OpError{Op: "dial", Err: d.err}
}

func TestConnectTellsSilenceFromFaults(t *testing.T) {
	target := netip.MustParseAddrPort("10.40.1.9:80")
	for _, tt := range []struct {
		err     error
		outcome Outcome
		fault   bool
	}{
		{nil, Silent, false}, {syscall.ECONNREFUSED, Refused, false}, {syscall.ECONNRESET, Refused, false},
		{syscall.EHOSTUNREACH, Unreachable, false}, {syscall.ETIMEDOUT, Silent, false}, {syscall.EMFILE, Silent, true},
		{syscall.ENOBUFS, Silent, true}, {syscall.EADDRNOTAVAIL, Silent, true}, {syscall.ENETDOWN, Silent, true},
		{syscall.EPERM, Filtered, false}, {syscall.ENOPROTOOPT, Filtered, false}, {syscall.Errno(64), Unreachable, false},
	} {
		synctest.Test(t, func(t *testing.T) {
			_, outcome, err := Connect(t.Context(), dialer{tt.err}, target, time.Second)
			if outcome != tt.outcome || (err != nil) != tt.fault {
				t.Errorf("%v: outcome %v, error %v", tt.err, outcome, err)
			}
		})
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, _, err := Connect(ctx, dialer{}, target, time.Second); err != context.Canceled {
		t.Errorf("a sweep that was stopped gave %v", err)
	}
}

func TestARP(t *testing.T) {
	mac, self, target := hwaddr.MustParse("48:9b:34:00:00:01"), netip.MustParseAddr("10.40.1.250"), netip.MustParseAddr("10.40.1.9")
	request := ARPRequest(mac, self, target)
	want := "\xff\xff\xff\xff\xff\xff\x48\x9b\x34\x00\x00\x01\x08\x06\x00\x01\x08\x00\x06\x04\x00\x01" +
		"\x48\x9b\x34\x00\x00\x01\x0a\x28\x01\xfa\x00\x00\x00\x00\x00\x00\x0a\x28\x01\x09"
	if got := string(request[:42]); got != want {
		t.Errorf("request %x\nwant    %x", got, want)
	}
	if heard, ok := ParseARP(request); !ok || heard.Addr != self || heard.MAC != mac || heard.Reply {
		t.Errorf("a request tells %+v, %v", heard, ok)
	}
	for name, change := range map[string]func([]byte){
		"cut short":         func(f []byte) { f[18] = 20 },
		"no Ethernet":       func(f []byte) { f[15] = 6 },
		"a group's MAC":     func(f []byte) { f[22] = 1 },
		"an RFC 5227 probe": func(f []byte) { copy(f[28:32], []byte{0, 0, 0, 0}) },
		"IPv6":              func(f []byte) { f[12], f[13] = 0x86, 0xdd },
	} {
		frame := bytes.Clone(request)
		change(frame)
		if heard, ok := ParseARP(frame); ok {
			t.Errorf("%s is taken for %+v", name, heard)
		}
	}
}

func FuzzParseARP(f *testing.F) {
	f.Add(ARPRequest(hwaddr.MAC{2}, netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("10.0.0.2")))
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, frame []byte) {
		if heard, ok := ParseARP(frame); ok && (!heard.Addr.Is4() || heard.MAC.IsZero() || heard.MAC.IsGroup()) {
			t.Errorf("%x tells of %+v", frame, heard)
		}
	})
}

// FuzzAnswers gives every reader of text protocols the same bytes and wants bounded, valid evidence.
func FuzzAnswers(f *testing.F) {
	for _, seed := range []string{
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\n<titl\r\nffffffff\r\n", "HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=utf-16\r\n\r\n\xff\xfe<\x00",
		"RTSP/1.0 200 OK\r\nA: b\r\n\r\n", "\xff\xfa\xff\xf0\xff", "SSH-2.0-x\r\n",
	} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		found := &found{port: evidence.TCP(80)}
		readHTTP(bytes.NewReader(raw), found)
		readRTSP(textproto.NewReader(bufio.NewReader(bytes.NewReader(raw))), found)
		found.add(evidence.SourceText, evidence.KeyText, firstLine(readGreeting(bytes.NewReader(raw), stripTelnet)))
		found.add(evidence.SourceSSH, evidence.KeySSHGreeting, sshIdentification(raw))
		for _, item := range found.items {
			if item.Value != evidence.Clean([]byte(item.Value)) {
				t.Errorf("%s is not clean: %q", item.Key, item.Value)
			}
		}
	})
}

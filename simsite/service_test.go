package simsite

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

const lab = `name: lab
networks: [{name: a, subnet: 10.1.0.0/24}]
vantage: {network: a, address: 10.1.0.2, mac: "48:9b:34:00:00:01"}
devices:
  - name: talker
    standing: managed
    legs: [{network: a, address: 10.1.0.9, mac: "48:9b:34:00:00:02"}]
    services:
      - {port: 21, speaks: text, says: 220 ready}
      - {port: 22, speaks: ssh, says: SSH-2.0-Lab_1}
      - {port: 80, speaks: http, title: "A <b>bold</b> title", server: labd, realm: Lab}
      - {port: 443, speaks: https, title: Secure, name: talker.lab.example}
      - {port: 554, speaks: rtsp, server: Lab Stream}
      - {port: 3389, speaks: rdp}
      - {port: 9100, speaks: sink}
`

// plugIn starts the lab and gives the auditor's machine in it.
func plugIn(t *testing.T) *Wire {
	t.Helper()
	scenario, err := Load("lab", []byte(lab))
	if err != nil {
		t.Fatal(err)
	}
	site, err := Start(scenario)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = site.Close() })
	w, err := site.Wire()
	if err != nil {
		t.Fatal(err)
	}
	return w
}

func dial(t *testing.T, w *Wire, port uint16) net.Conn {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	conn, err := w.DialContext(ctx, "tcp", netip.AddrPortFrom(netip.MustParseAddr("10.1.0.9"), port))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	return conn
}

func TestServicesSpeakTheirProtocols(t *testing.T) {
	w := plugIn(t)
	if line, err := bufio.NewReader(dial(t, w, 21)).ReadString('\n'); err != nil || line != "220 ready\r\n" {
		t.Errorf("text says %q, %v", line, err)
	}
	web := &http.Client{Transport: &http.Transport{
		DialContext: func(context.Context, string, string) (net.Conn, error) { return dial(t, w, 80), nil },
	}}
	resp, err := web.Get("http://10.1.0.9/")
	if err != nil {
		t.Fatal(err)
	}
	body, _ := io.ReadAll(resp.Body)
	resp.Body.Close()
	if resp.StatusCode != 401 || resp.Header.Get("Server") != "labd" || resp.Header.Get("WWW-Authenticate") != `Basic realm="Lab"` || !strings.Contains(string(body), "A &lt;b&gt;bold") {
		t.Errorf("the page is %d %v %s", resp.StatusCode, resp.Header, body)
	}
	stream := dial(t, w, 554)
	fmt.Fprint(stream, "OPTIONS * RTSP/1.0\r\nCSeq: 41\r\n\r\n")
	answer := make([]byte, 200)
	n, _ := stream.Read(answer)
	if text := string(answer[:n]); !strings.HasPrefix(text, "RTSP/1.0 200 OK\r\nCSeq: 41\r\nServer: Lab Stream") {
		t.Errorf("RTSP says %q", text)
	}
	desktop := dial(t, w, 3389)
	_, _ = desktop.Write([]byte{3, 0, 0, 19, 14, 0xe0, 0, 0, 0, 0, 0, 1, 0, 8, 0, 3, 0, 0, 0})
	confirm := make([]byte, 19)
	if _, err := io.ReadFull(desktop, confirm); err != nil || confirm[5] != 0xd0 {
		t.Errorf("remote desktop confirms with %x, %v", confirm, err)
	}
	_, _, _, err = ssh.NewClientConn(dial(t, w, 22), "10.1.0.9:22", &ssh.ClientConfig{
		User: "root", Auth: []ssh.AuthMethod{ssh.Password("x")}, HostKeyCallback: ssh.InsecureIgnoreHostKey(),
	})
	if err == nil || !strings.Contains(err.Error(), "unable to authenticate") {
		t.Errorf("signing in by SSH gave %v", err)
	}
	printer := dial(t, w, 9100)
	if _, err := printer.Write([]byte("anything")); err != nil {
		t.Error(err)
	}
	_ = printer.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
	if n, err := printer.Read(make([]byte, 1)); n != 0 || err == nil {
		t.Errorf("a printing port said something: %d, %v", n, err)
	}
}

// A device's keys are its own, and the same whenever the building is switched on.
func TestKeysStay(t *testing.T) {
	key := func() string {
		conn := tls.Client(dial(t, plugIn(t), 443), &tls.Config{InsecureSkipVerify: true})
		if err := conn.Handshake(); err != nil {
			t.Fatal(err)
		}
		leaf := conn.ConnectionState().PeerCertificates[0]
		if leaf.Subject.CommonName != "talker.lab.example" {
			t.Errorf("the certificate is made out to %q", leaf.Subject.CommonName)
		}
		return string(leaf.RawSubjectPublicKeyInfo)
	}
	if first, second := key(), key(); first != second {
		t.Error("the key changed when the building was switched on again")
	}
	if deviceSecret(1, "a") == deviceSecret(1, "b") || deviceSecret(1, "a") == deviceSecret(2, "a") {
		t.Error("two devices have one secret")
	}
}

func TestCloseEndsEverything(t *testing.T) {
	w := plugIn(t)
	frames, err := w.Frames(t.Context(), 0x0806)
	if err != nil {
		t.Fatal(err)
	}
	echo, err := w.Echo(t.Context(), "ip4")
	if err != nil {
		t.Fatal(err)
	}
	if err := frames.Close(); err != nil {
		t.Error(err)
	}
	if err := echo.Close(); err != nil {
		t.Error(err)
	}
	if _, err := frames.ReadFrame(make([]byte, 100)); err == nil {
		t.Error("a closed frame socket still reads")
	}
	if _, err := echo.Receive(); err == nil {
		t.Error("a closed echo socket still receives")
	}
	if _, err := w.DialContext(t.Context(), "sctp", netip.AddrPort{}); err == nil {
		t.Error("a network that is not there was dialled")
	}
	if _, err := w.ListenPacket(t.Context(), "tcp", netip.AddrPort{}); err == nil {
		t.Error("a datagram socket over TCP was opened")
	}
}

func TestFaultsHoldFramesBack(t *testing.T) {
	frame := func(protocol byte, payload ...byte) []byte {
		f := make([]byte, 14, 60)
		f[12], f[13] = 8, 0
		header := make([]byte, 20)
		header[0], header[9] = 0x45, protocol
		return append(append(f, header...), payload...)
	}
	echo := frame(1, 8, 0, 0, 0, 0, 0, 0, 0)
	reply := frame(1, 0, 0, 0, 0, 0, 0, 0, 0)
	open := frame(6, 0, 0, 0, 80, 0, 0, 0, 0)
	closed := frame(6, 0, 0, 0, 81, 0, 0, 0, 0)
	back := frame(6, 0, 80, 0xc0, 0x01, 0, 0, 0, 0)
	services := []Service{{Port: 80}}
	for _, tt := range []struct {
		faults []string
		passes map[string]bool
	}{
		{[]string{FaultDropsEcho}, map[string]bool{"reply": true, "open": true, "closed": true, "back": true}},
		{[]string{FaultDropsRefusal}, map[string]bool{"echo": true, "reply": true, "open": true, "back": true}},
		{[]string{FaultDropsEcho, FaultDropsRefusal}, map[string]bool{"reply": true, "open": true, "back": true}},
	} {
		accepts := ingress(tt.faults, services)
		for name, f := range map[string][]byte{"echo": echo, "reply": reply, "open": open, "closed": closed, "back": back} {
			if accepts(f) != tt.passes[name] {
				t.Errorf("%v: %s passes: %v", tt.faults, name, !tt.passes[name])
			}
		}
		if !accepts([]byte("short")) || !accepts(append(echo[:14:14], 0x4f)) {
			t.Errorf("%v: a frame that cannot be read was held back", tt.faults)
		}
	}
	if ingress(nil, services) != nil {
		t.Error("a device without faults has a filter")
	}
}

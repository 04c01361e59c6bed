package simsite

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
)

// serveIPP is a printer's web page, and behind it the printer itself (RFC 8010, 8011).
func serveIPP(l net.Listener, s Service, _ [32]byte) {
	start := page(s)
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodPost {
			start.ServeHTTP(w, r)
			return
		}
		question, err := io.ReadAll(io.LimitReader(r.Body, 1<<16))
		if err != nil || len(question) < 8 || r.URL.Path != "/ipp/print" {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "application/ipp")
		if question[3] == 0x3c { // it is to show itself
			status := byte(5) // it cannot (RFC 8011, B.1.5.2)
			if strings.Contains(string(question), "identify-actions\x00\x05flash") && s.Tells["shows"] == "flash" {
				status = 0
			}
			_, _ = w.Write(append([]byte{2, 0, status, status}, append(question[4:8:8], 3)...))
			return
		}
		_, _ = w.Write(printerAnswer(question, s.Tells)) // a client that has gone away is no loss
	})
	server := &http.Server{Handler: handler, ReadHeaderTimeout: exchangeTime, IdleTimeout: exchangeTime}
	_ = server.Serve(l)
}

func printerAnswer(question []byte, tells map[string]string) []byte {
	answer := append([]byte{2, 0, 0, 0}, question[4:8]...)
	add := func(tag byte, name string, value []byte) {
		answer = append(answer, tag)
		answer = binary.BigEndian.AppendUint16(answer, uint16(len(name)))
		answer = append(answer, name...)
		answer = binary.BigEndian.AppendUint16(answer, uint16(len(value)))
		answer = append(answer, value...)
	}
	answer = append(answer, 1)
	add(0x47, "attributes-charset", []byte("utf-8"))
	add(0x48, "attributes-natural-language", []byte("en"))
	answer = append(answer, 4)
	for _, attribute := range []string{"printer-make-and-model", "printer-info", "printer-location", "printer-device-id", "printer-firmware-string-version"} {
		if text := tells[attribute]; text != "" {
			add(0x41, attribute, []byte(text))
		}
	}
	if tells["shows"] != "" {
		add(0x44, "identify-actions-supported", []byte(tells["shows"]))
	}
	add(0x23, "printer-state", []byte{0, 0, 0, 3})
	return append(answer, 3)
}

// servePJL takes print jobs, and answers in the printer's own language what it is asked in that.
func servePJL(conn net.Conn, s Service) {
	lines := bufio.NewReader(io.LimitReader(conn, 1<<16))
	for {
		line, err := lines.ReadString('\n')
		switch {
		case strings.Contains(line, "@PJL INFO ID"):
			fmt.Fprintf(conn, "@PJL INFO ID\r\n\"%s\"\r\n\f", s.Tells["id"])
		case strings.Contains(line, "@PJL INFO STATUS"):
			fmt.Fprint(conn, "@PJL INFO STATUS\r\nCODE=10001\r\nDISPLAY=\"Ready\"\r\nONLINE=TRUE\r\n\f")
		}
		if err != nil {
			return
		}
	}
}

// serveMQTT lets in whom it is told to (OASIS MQTT 3.1.1, 3.2).
func serveMQTT(conn net.Conn, s Service) {
	head := make([]byte, 2)
	if _, err := io.ReadFull(conn, head); err != nil || head[0] != 0x10 {
		return
	}
	if _, err := io.CopyN(io.Discard, conn, int64(head[1])); err != nil {
		return
	}
	code := byte(5)
	if s.Tells["open"] == "yes" {
		code = 0
	}
	if _, err := conn.Write([]byte{0x20, 2, 0, code}); err != nil || code != 0 {
		return
	}
	for { // what it is told at a place of the broker's own, of which it keeps the last message (OASIS MQTT 3.1.1, 3.8)
		if _, err := io.ReadFull(conn, head); err != nil || head[1] > 127 {
			return
		}
		packet := make([]byte, head[1])
		if _, err := io.ReadFull(conn, packet); err != nil {
			return
		}
		if head[0] != 0x82 || len(packet) < 6 {
			continue
		}
		topic, answer := packet[4:len(packet)-1], []byte{0x90, 3, packet[0], packet[1], 0}
		if version := s.Tells["version"]; version != "" && string(topic) == "$SYS/broker/version" {
			answer = append(answer, 0x31, byte(2+len(topic)+len(version)), 0, byte(len(topic)))
			answer = append(append(answer, topic...), version...)
		}
		if _, err := conn.Write(answer); err != nil {
			return
		}
	}
}

// serveVNC tells version and ways to sign in (RFC 6143, 7.1).
func serveVNC(conn net.Conn, s Service) {
	if _, err := io.WriteString(conn, "RFB 003.008\n"); err != nil {
		return
	}
	if _, err := io.CopyN(io.Discard, conn, 12); err != nil {
		return
	}
	kind := byte(2)
	if s.Tells["open"] == "yes" {
		kind = 1
	}
	_, _ = conn.Write([]byte{1, kind})
	_, _ = io.Copy(io.Discard, conn)
}

// serveFTP greets and tells its system (RFC 959).
func serveFTP(conn net.Conn, s Service) {
	answers := map[string]string{"SYST": "215 " + s.Tells["system"], "QUIT": "221 bye", "USER": "331 who are you?", "PASS": "530 not you"}
	if s.Tells["anonymous"] == "yes" {
		answers["PASS"] = "230-welcome,\r\n and look around\r\n230 you are in"
	}
	serveLines(conn, "220 "+s.Says, answers)
}

// serveSMTP greets and tells its name (RFC 5321).
func serveSMTP(conn net.Conn, s Service) {
	serveLines(conn, "220 "+s.Says, map[string]string{"EHLO": "250 " + s.Tells["host"], "QUIT": "221 bye"})
}

func serveLines(conn net.Conn, greeting string, answers map[string]string) {
	if _, err := io.WriteString(conn, greeting+"\r\n"); err != nil {
		return
	}
	lines := bufio.NewScanner(io.LimitReader(conn, 1<<16))
	for lines.Scan() {
		verb, _, _ := strings.Cut(lines.Text(), " ")
		answer := answers[strings.ToUpper(verb)]
		if answer == "" {
			answer = "500 what?"
		}
		if _, err := io.WriteString(conn, answer+"\r\n"); err != nil || verb == "QUIT" {
			return
		}
	}
}

// serveTelnet says nothing before its options have been declined (RFC 854).
func serveTelnet(conn net.Conn, s Service) {
	if _, err := conn.Write([]byte{255, 251, 1, 255, 253, 31}); err != nil {
		return
	}
	if _, err := io.CopyN(io.Discard, conn, 6); err != nil {
		return
	}
	serveText(conn, s)
}

// serveSIPConn is SIP over TCP.
func serveSIPConn(conn net.Conn, s Service) {
	buf := make([]byte, 4096)
	n, err := conn.Read(buf)
	if err == nil {
		_, _ = io.WriteString(conn, sipAnswer(string(buf[:n]), s)) // a client that has gone away is no loss
	}
}

// serveDescription gives the document that answers to searches point to.
func serveDescription(l net.Listener, b booth) {
	serveDocument(l, "text/xml", func(*http.Request) string { return deviceDescription(b) })
}

// serveDocument gives one document, or says that there is none.
func serveDocument(l net.Listener, kind string, document func(r *http.Request) string) {
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text := document(r)
		if text == "" {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", kind)
		_, _ = io.WriteString(w, text) // a client that has gone away is no loss
	})
	server := &http.Server{Handler: handler, ReadHeaderTimeout: exchangeTime}
	_ = server.Serve(l)
}

package simsite

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"html"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/textproto"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// exchangeTime bounds one conversation with a simulated service.
const exchangeTime = 30 * time.Second

// speaker serves a listener in one protocol until the listener closes.
type speaker func(l net.Listener, s Service, secret [32]byte)

// speakers are the protocols that a scenario may name. The secret is the device's own: its keys come from it.
var speakers map[string]speaker

func init() {
	// Set here, as checking a scenario reads this table and the table's own entries lead back to the checks.
	speakers = map[string]speaker{
		"http":   serveHTTP,
		"https":  serveHTTPS,
		"ssh":    serveSSH,
		"text":   eachConn(serveText),
		"rtsp":   eachConn(serveRTSP),
		"rdp":    eachConn(serveRDP),
		"ipp":    serveIPP,
		"pjl":    eachConn(servePJL),
		"smb":    eachConn(serveSMB),
		"mqtt":   eachConn(serveMQTT),
		"vnc":    eachConn(serveVNC),
		"ftp":    eachConn(serveFTP),
		"smtp":   eachConn(serveSMTP),
		"telnet": eachConn(serveTelnet),
		"llmnr":  eachConn(serveLLMNR),
		"sink":   eachConn(serveSink),
		"modbus": eachConn(serveModbus),
		"ups":    eachConn(serveUPS),
		"pjlink": eachConn(servePJLink),
		"iso":    eachConn(serveISO),
		"rpc":    eachConn(serveRPC),
		"opcua":  eachConn(serveOPCUA),

		"endless": eachConn(serveEndless),
		"drip":    eachConn(serveDrip),
		"garbage": eachConn(serveGarbage),
	}
}

// deviceSecret makes the secret of one device, the same in every run of one scenario.
func deviceSecret(seed uint64, device string) [32]byte {
	return sha256.Sum256(fmt.Appendf(nil, "%d/%s", seed, device))
}

func eachConn(serve func(net.Conn, Service)) speaker {
	return func(l net.Listener, s Service, _ [32]byte) {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				_ = conn.SetDeadline(time.Now().Add(exchangeTime))
				serve(conn, s)
			}()
		}
	}
}

// serveSink takes in everything and says nothing.
func serveSink(conn net.Conn, _ Service) { _, _ = io.Copy(io.Discard, conn) }

// serveText says the greeting at once, as FTP, SMTP, POP, IMAP and Telnet servers do, and then only listens.
func serveText(conn net.Conn, s Service) {
	if _, err := io.WriteString(conn, s.Says+"\r\n"); err == nil {
		_, _ = io.Copy(io.Discard, conn)
	}
}

func serveHTTP(l net.Listener, s Service, _ [32]byte) {
	server := &http.Server{Handler: page(s), ReadHeaderTimeout: exchangeTime, IdleTimeout: exchangeTime}
	_ = server.Serve(l)
}

func serveHTTPS(l net.Listener, s Service, secret [32]byte) {
	serveHTTP(tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{certificate(s.Name, secret)}}), s, secret)
}

// page is the start page of a device's web server.
func page(s Service) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.Moves != "" && r.URL.Path == "/" {
			http.Redirect(w, r, s.Moves, http.StatusFound)
			return
		}
		if s.Server != "" {
			w.Header().Set("Server", s.Server)
		}
		if besidePage(w, r, s.Tells) {
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		if s.Realm != "" {
			w.Header().Set("WWW-Authenticate", fmt.Sprintf("Basic realm=%q", s.Realm))
			w.WriteHeader(http.StatusUnauthorized)
		}
		fmt.Fprintf(w, "<!doctype html><html><head><title>%s</title></head><body><h1>%[1]s</h1></body></html>\n", html.EscapeString(s.Title))
	})
}

// besidePage answers what is asked for beside pages: files by WebDAV (RFC 4918), where "files" is "open" or "sign-in", and the root of the management
// of a machine (DMTF DSP0266), where "redfish" is the name of the product.
func besidePage(w http.ResponseWriter, r *http.Request, tells map[string]string) bool {
	switch {
	case r.Method == "PROPFIND" && tells["files"] != "":
		w.Header().Set("DAV", "1, 2")
		if tells["files"] == "open" {
			w.WriteHeader(http.StatusMultiStatus)
			fmt.Fprint(w, `<?xml version="1.0"?><D:multistatus xmlns:D="DAV:"/>`)
		} else {
			w.Header().Set("WWW-Authenticate", `Basic realm="files"`)
			w.WriteHeader(http.StatusUnauthorized)
		}
	case r.Method != http.MethodGet:
		http.Error(w, "not allowed", http.StatusMethodNotAllowed)
	case r.URL.Path == "/redfish/v1/" && tells["redfish"] != "":
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{ // who has gone away is no loss
			"@odata.type": "#ServiceRoot.v1_11_0.ServiceRoot", "RedfishVersion": "1.15.0", "Name": "Root Service", "Product": tells["redfish"], "Vendor": tells["maker"], "UUID": tells["id"],
		})
	default:
		return false
	}
	return true
}

// certificate makes a self-signed certificate whose key hangs on the device's secret alone.
func certificate(name string, secret [32]byte) tls.Certificate {
	key := ed25519.NewKeyFromSeed(secret[:])
	template := &x509.Certificate{
		SerialNumber: new(big.Int).SetBytes(secret[:8]),
		Subject:      pkix.Name{CommonName: name},
		NotBefore:    time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC),
		NotAfter:     time.Date(2034, 1, 1, 0, 0, 0, 0, time.UTC),
		DNSNames:     []string{name},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		panic("simsite: a self-signed certificate could not be made: " + err.Error())
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// serveSSH speaks SSH up to the point where a user name is wanted, and lets nobody in.
func serveSSH(l net.Listener, s Service, secret [32]byte) {
	signer, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(secret[:]))
	if err != nil {
		panic("simsite: an SSH host key could not be made: " + err.Error())
	}
	config := &ssh.ServerConfig{
		ServerVersion: s.Says,
		PasswordCallback: func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) {
			return nil, fmt.Errorf("nobody may sign in")
		},
	}
	config.AddHostKey(signer)
	eachConn(func(conn net.Conn, _ Service) {
		_, _, _, _ = ssh.NewServerConn(conn, config)
	})(l, s, secret)
}

// serveRTSP answers every request as RFC 7826 asks of one that needs no session.
func serveRTSP(conn net.Conn, s Service) {
	reader := textproto.NewReader(bufio.NewReader(io.LimitReader(conn, 64<<10)))
	for {
		line, err := reader.ReadLine()
		if err != nil {
			return
		}
		header, err := reader.ReadMIMEHeader()
		if err != nil {
			return
		}
		status, more := "200 OK", "Public: OPTIONS, DESCRIBE, SETUP, PLAY, TEARDOWN"
		if s.Realm != "" && strings.HasPrefix(line, "DESCRIBE ") {
			status, more = "401 Unauthorized", fmt.Sprintf("WWW-Authenticate: Digest realm=%q, nonce=\"1\"", s.Realm)
		}
		fmt.Fprintf(conn, "RTSP/1.0 %s\r\nCSeq: %s\r\nServer: %s\r\n%s\r\n\r\n", status, header.Get("Cseq"), s.Server, more)
	}
}

// serveRDP answers the connection request of a remote desktop client with the confirmation of ISO 8073 (class 0) in
// the envelope of RFC 1006, and goes no further.
func serveRDP(conn net.Conn, _ Service) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(conn, head); err != nil || head[0] != 3 {
		return
	}
	length := int64(binary.BigEndian.Uint16(head[2:])) - int64(len(head))
	if _, err := io.CopyN(io.Discard, conn, length); err != nil {
		return
	}
	confirm := []byte{3, 0, 0, 19, 14, 0xd0, 0, 0, 0x12, 0x34, 0, 2, 0, 8, 0, 2, 0, 0, 0} // network level authentication
	_, _ = io.Copy(conn, bytes.NewReader(confirm))
}

package service

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"airdrift/core/wire"
	"airdrift/hostwire"
	"airdrift/internal/atomicfile"
	"airdrift/internal/localsocket"
	"airdrift/spool"
	"airdrift/store"
	"airdrift/vault"
)

const (
	secretsFile   = "secrets.key" // the key of what is sealed in the database
	passwordFile  = "console-password"
	addressFile   = "service.json"
	shutdownWait  = 10 * time.Second
	readHeaderMax = 10 * time.Second
	headerMax     = 64 << 10
	idleMax       = 2 * time.Minute
)

// InstanceConfig says how to run a service on this machine.
type InstanceConfig struct {
	Data     string   // directory for the database, the socket of the local command line and the first password
	Listen   string   // host:port on loopback; port 0 takes a free one
	DSN      string   // of a database that runs; empty starts one below Data
	DSNCA    string   // file of the certificates (PEM) to trust for that database; empty for the system's, where the DSN says tls=true
	Vantages Vantages // nil: this machine's interfaces
	Console  fs.FS    // the built console; nil serves none

	Public      []netip.Prefix // public networks that may be put into a fence
	Certificate string         // file of the TLS certificate chain (PEM); empty makes one where TLS is wanted
	Key         string         // file of its key (PEM)
	TLS         bool           // speak TLS on loopback too; elsewhere it always is
	SpoolLimit  int64          // bytes of one sweep's journal; 0 for the usual limit
	Proxies     []netip.Prefix // proxies whose word of where a request came from is believed

	SecondFactor bool          // everybody who signs in by password needs a second factor
	Idle         time.Duration // after which a session that nobody uses ends; 0 for DefaultIdle
	AuditKept    time.Duration // for how long lines of the audit log are kept; 0 for DefaultAuditKept
}

// Instance is a service that runs, with everything it needs.
type Instance struct {
	URL string // where it listens
	Pin string // SHA-256 of the key of the TLS certificate; empty without TLS

	data    string
	server  *http.Server
	local   *http.Server // for the command line of this machine
	service *Service
	store   *store.Store
	db      *store.Server // nil where the database is not ours
	ended   chan error
	serving sync.WaitGroup
	lock    *os.File

	once   sync.Once // guards closed
	closed error     // how ending it went
}

// Address says where a service is reached by browsers and other machines; it is kept in the data directory.
type Address struct {
	URL string `json:"url"`
	Pin string `json:"pin,omitempty"` // SHA-256 of the key of the certificate, which need not be signed by anybody
}

// Run starts a service: database, tables, API and console. The caller ends it with Close.
func Run(ctx context.Context, config InstanceConfig) (instance *Instance, err error) {
	secure, err := NeedsTLS(config)
	if err != nil {
		return nil, err
	}
	// The port is taken first: nothing else is begun where it is not to be had.
	listener, err := net.Listen("tcp", config.Listen)
	if err != nil {
		return nil, fmt.Errorf("cannot listen on %s: %w. Is another service running there? Choose another port with --listen", config.Listen, err)
	}
	in := &Instance{URL: "http://" + listener.Addr().String(), data: config.Data, ended: make(chan error, 2)}
	var settings *tls.Config
	defer func() {
		if err != nil {
			_ = listener.Close()
			_ = in.Close()
		}
	}()
	// Others may pass through, as the database runs as a user of its own; what is secret inside has its own rights.
	if err := os.MkdirAll(config.Data, 0o711); err != nil {
		return nil, fmt.Errorf("data directory: %w", err)
	}
	if in.lock, err = lockData(config.Data); err != nil {
		return nil, err
	}
	if err := checkVersion(config.Data); err != nil {
		return nil, err
	}
	if secure {
		if settings, in.Pin, err = tlsSettings(config, listener.Addr()); err != nil {
			return nil, err
		}
		in.URL = "https://" + listener.Addr().String()
	}
	// A version that let the local command line in by a token has left it behind.
	if err := os.Remove(filepath.Join(config.Data, "token")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if err := in.openStore(ctx, config); err != nil {
		return nil, err
	}
	vantages := config.Vantages
	if vantages == nil {
		vantages = HostVantages{}
	}
	journals, err := spool.Open(filepath.Join(config.Data, "spool"), config.SpoolLimit)
	if err != nil {
		return nil, err
	}
	secrets, err := vault.Open(filepath.Join(config.Data, secretsFile))
	if err != nil {
		return nil, err
	}
	in.service, err = New(ctx, Config{
		Store: in.store, Spool: journals, Vault: secrets, Vantages: vantages, Console: config.Console, Public: config.Public, Secure: secure,
		Proxies: config.Proxies, SecondFactor: config.SecondFactor, Idle: config.Idle, AuditKept: config.AuditKept, PasswordSet: in.forgetFirstPassword,
	})
	if err != nil {
		return nil, err
	}
	if err := in.firstPassword(ctx); err != nil {
		return nil, fmt.Errorf("first password: %w", err)
	}
	local, err := localsocket.Listen(config.Data)
	if err != nil {
		return nil, err
	}
	handler := in.service.Handler()
	in.server = &http.Server{Handler: handler, ReadHeaderTimeout: readHeaderMax, IdleTimeout: idleMax, MaxHeaderBytes: headerMax, TLSConfig: settings, ErrorLog: quietLog,
		HTTP2: &http.HTTP2Config{MaxConcurrentStreams: maxOfClient}}
	in.local = &http.Server{Handler: handler, ReadHeaderTimeout: readHeaderMax, IdleTimeout: idleMax, MaxHeaderBytes: headerMax, ConnContext: withLocal, ErrorLog: quietLog}
	bounded := limit(listener)
	in.serving.Go(func() {
		if secure {
			in.ended <- in.server.ServeTLS(bounded, "", "")
		} else {
			in.ended <- in.server.Serve(bounded)
		}
	})
	in.serving.Go(func() { in.ended <- in.local.Serve(limit(local)) })
	return in, in.writeAddress()
}

// quietLog keeps what strangers can write into the log, failed handshakes among it, to its lowest level.
var quietLog = slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)

func (in *Instance) openStore(ctx context.Context, config InstanceConfig) (err error) {
	dsn := config.DSN
	if dsn == "" {
		if in.db, err = store.StartServer(ctx, filepath.Join(config.Data, "database")); err != nil {
			return err
		}
		dsn = in.db.DSN()
	}
	var options []store.Option
	if config.DSNCA != "" {
		options = append(options, store.WithCA(config.DSNCA))
	}
	in.store, err = store.Open(ctx, dsn, options...)
	return err
}

// keepSecret reads a secret from a file that only its owner may read, or makes both.
func keepSecret(path string) (string, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		secret := NewSecret()
		return secret, atomicfile.Write(path, []byte(secret+"\n"), 0o600)
	}
	return strings.TrimSpace(string(text)), err
}

// firstPassword makes an administrator where there is no user yet, and leaves the password in a file.
func (in *Instance) firstPassword(ctx context.Context) error {
	users, err := in.store.Users(ctx)
	if err != nil || len(users) > 0 {
		return err
	}
	password, err := keepSecret(in.PasswordFile())
	if err != nil {
		return err
	}
	hash, err := in.service.auth.hashPassword(ctx, firstUser, password)
	if err != nil {
		return err
	}
	return in.store.CreateUser(ctx, store.User{Name: firstUser, Role: string(Administer), Hash: hash, CreatedAt: time.Now().UTC()})
}

// forgetFirstPassword deletes the file of the first password once another has been set.
func (in *Instance) forgetFirstPassword() {
	if err := os.Remove(in.PasswordFile()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		slog.Error("the file of the first password could not be deleted", "error", err)
	}
}

// PasswordFile is where the first password of the console is kept.
func (in *Instance) PasswordFile() string { return filepath.Join(in.data, passwordFile) }

func (in *Instance) writeAddress() error {
	text, err := json.Marshal(Address{URL: in.URL, Pin: in.Pin})
	if err != nil {
		return err
	}
	return atomicfile.Write(filepath.Join(in.data, addressFile), append(text, '\n'), 0o644)
}

// Find reads where the service of a data directory is reached.
func Find(data string) (address Address, err error) {
	text, err := os.ReadFile(filepath.Join(data, addressFile))
	if err != nil {
		return address, fmt.Errorf("no service has run on %s: start one with airdrift serve, or name its data directory with --data", data)
	}
	if err := json.Unmarshal(text, &address); err != nil {
		return address, fmt.Errorf("%s: %w", addressFile, err)
	}
	return address, nil
}

// WaitTakenUp waits until what an earlier run has left is entered, or ctx ends. The service answers meanwhile.
func (in *Instance) WaitTakenUp(ctx context.Context) error { return in.service.WaitTakenUp(ctx) }

// Wait blocks until ctx ends, or the service does of itself, which is an error.
func (in *Instance) Wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return nil
	case err := <-in.ended:
		return fmt.Errorf("the service ended: %w", err)
	}
}

// Close ends sweeps, requests, and the database where it is our own. What was seen is written before.
func (in *Instance) Close() error {
	in.once.Do(func() { in.closed = in.close() })
	return in.closed
}

func (in *Instance) close() error {
	var failures []error
	if in.service != nil {
		in.service.Close()
	}
	ctx, cancel := context.WithTimeout(context.Background(), shutdownWait)
	defer cancel()
	for _, server := range []*http.Server{in.server, in.local} {
		if server == nil {
			continue
		}
		if err := server.Shutdown(ctx); err != nil {
			failures = append(failures, server.Close())
		}
	}
	in.serving.Wait() // only then the port is free
	if in.store != nil {
		failures = append(failures, in.store.Close())
	}
	if in.db != nil {
		failures = append(failures, in.db.Stop())
	}
	if in.lock != nil {
		failures = append(failures, in.lock.Close())
	}
	return errors.Join(failures...)
}

// HostVantages are the interfaces of this machine.
type HostVantages struct{}

// Links tells what each interface stands on.
func (HostVantages) Links() ([]wire.Link, error) {
	names, err := hostwire.Interfaces()
	if err != nil {
		return nil, err
	}
	links := make([]wire.Link, 0, len(names))
	for _, name := range names {
		w, err := hostwire.New(name)
		if err == nil { // one that has gone away meanwhile is left out
			links = append(links, w.Link())
		}
	}
	return links, nil
}

// Open gives the wire of one interface.
func (HostVantages) Open(name string) (wire.Wire, error) { return hostwire.New(name) }

// FixedVantages are wires known beforehand, such as one into a simulated building.
type FixedVantages []wire.Wire

// Links tells what each wire stands on.
func (v FixedVantages) Links() ([]wire.Link, error) {
	links := make([]wire.Link, len(v))
	for i, w := range v {
		links[i] = w.Link()
	}
	return links, nil
}

// Open gives the wire of that name.
func (v FixedVantages) Open(name string) (wire.Wire, error) {
	known := make([]string, len(v))
	for i, w := range v {
		known[i] = w.Link().Name
		if known[i] == name {
			return w, nil
		}
	}
	return nil, &hostwire.UnknownInterfaceError{Name: name, Known: known}
}

package store

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"airdrift/internal/atomicfile"
)

const (
	databaseName = "airdrift"
	startWait    = 60 * time.Second
	stopWait     = 60 * time.Second

	restartWait    = 500 * time.Millisecond // before the server is tried again, doubled each time
	maxRestartWait = 30 * time.Second
)

// ErrNoServer is returned where no MariaDB server program is installed.
var ErrNoServer = errors.New("no MariaDB server program (mariadbd) is installed: install the package mariadb-server, " +
	"or name a running server with --dsn")

// Server is a MariaDB server of Airdrift's own, on loopback, with its own data directory.
//
// One that ends of itself is started again: the service outlives its database. Whoever speaks to it does so by TLS and only
// to the holder of a key that this server was given at its start: another program that has taken the port learns nothing.
type Server struct {
	home     home
	program  string
	password string
	identity identity
	ended    chan struct{} // closed when the server is stopped and is not started again

	mu       sync.Mutex // guards all below
	process  *process
	port     int
	stopping bool
}

// process is one run of the server program.
type process struct {
	cmd     *exec.Cmd
	exited  chan struct{} // closed when it has ended
	failure error         // how it ended; valid after exited
}

// StartServer starts a server whose data is kept below dir, and waits until it answers. Its password is made anew at
// each start and kept in memory. A server that a crashed service left behind is stopped first.
func StartServer(ctx context.Context, dir string) (*Server, error) {
	program, err := findProgram("mariadbd")
	if err != nil {
		return nil, err
	}
	home, err := prepareHome(ctx, dir)
	if err != nil {
		return nil, fmt.Errorf("prepare the database's directory: %w", err)
	}
	if err := home.initialise(ctx); err != nil {
		return nil, err
	}
	return home.start(ctx, program)
}

// findProgram looks where Debian puts server programs, which is not in every user's path.
func findProgram(name string) (string, error) {
	if path, err := exec.LookPath(name); err == nil {
		return path, nil
	}
	for _, dir := range []string{"/usr/sbin", "/usr/local/sbin", "/usr/libexec"} {
		if path, err := exec.LookPath(filepath.Join(dir, name)); err == nil {
			return path, nil
		}
	}
	return "", ErrNoServer
}

// start runs the server with a password and a certificate of its own, and keeps it running.
func (h home) start(ctx context.Context, program string) (*Server, error) {
	identity, err := newIdentity()
	if err != nil {
		return nil, fmt.Errorf("certificate of the database server: %w", err)
	}
	s := &Server{home: h, program: program, password: rand.Text(), identity: identity, ended: make(chan struct{})}
	if err := s.enlist(); err != nil {
		return nil, err
	}
	if err := s.launch(ctx); err != nil {
		s.delist()
		return nil, err
	}
	go s.supervise()
	return s, nil
}

// portTries is how many ports are tried: between the choice of a port and its use somebody else may have taken it.
const portTries = 3

// launch starts the program and waits until it answers.
func (s *Server) launch(ctx context.Context) error {
	h := s.home
	if err := h.write(h.accounts(), accountStatements(s.password)); err != nil {
		return err
	}
	defer os.Remove(h.accounts())
	if err := h.write(h.certificate(), s.identity.pem); err != nil {
		return err
	}
	defer os.Remove(h.certificate())
	for try := 1; ; try++ {
		err := s.launchOnce(ctx)
		if err == nil || try == portTries || !errors.Is(err, errEnded) {
			return err
		}
	}
}

// errEnded says that the program has ended instead of answering.
var errEnded = errors.New("the database server ended at its start")

func (s *Server) launchOnce(ctx context.Context) error {
	h := s.home
	port, err := freePort()
	if err != nil {
		return err
	}
	// The server changes to its data directory before it makes its socket, so that a path of any length is short enough
	// for one (sun_path of unix(7) holds 108 bytes).
	cmd := h.command(context.WithoutCancel(ctx), s.program,
		"--no-defaults", "--datadir="+h.data(), "--tmpdir="+h.path(temporaryDir), "--socket=../"+runDir+"/"+filepath.Base(h.socket()),
		"--pid-file="+filepath.Join(h.path(runDir), "server.pid"), "--log-error="+h.log(), "--init-file="+h.accounts(),
		"--ssl-cert="+h.certificate(), "--ssl-key="+h.certificate(), "--require-secure-transport=ON",
		"--bind-address=127.0.0.1", "--port="+strconv.Itoa(port),
		"--skip-name-resolve", "--character-set-server=utf8mb4", "--collation-server=utf8mb4_unicode_ci",
		"--innodb-buffer-pool-size=256M", "--innodb-log-file-size=128M", "--max-allowed-packet=64M",
		"--performance-schema=OFF", "--skip-log-bin", "--local-infile=OFF", "--secure-file-priv="+h.path(temporaryDir), "--skip-symbolic-links")
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start the database server: %w", err)
	}
	p := &process{cmd: cmd, exited: make(chan struct{})}
	go func() {
		p.failure = cmd.Wait()
		close(p.exited)
	}()
	s.mu.Lock()
	s.process, s.port = p, port
	stopping := s.stopping
	s.mu.Unlock()
	if stopping {
		return p.stop()
	}
	if err := atomicfile.Write(h.pidFile(), []byte(strconv.Itoa(cmd.Process.Pid)+"\n"), 0o600); err != nil {
		return errors.Join(err, p.stop())
	}
	if err := s.waitReady(ctx, p); err != nil {
		return errors.Join(fmt.Errorf("%w (its log is %s)", err, h.log()), p.stop())
	}
	return nil
}

// supervise starts the server again whenever it ends of itself, until it is stopped.
func (s *Server) supervise() {
	defer close(s.ended)
	for {
		s.mu.Lock()
		p := s.process
		s.mu.Unlock()
		<-p.exited
		if s.isStopping() {
			return
		}
		slog.Warn("the database server ended of itself and is started again", "error", p.failure)
		for wait := restartWait; ; wait = min(2*wait, maxRestartWait) {
			err := s.launch(context.Background())
			if err == nil || s.isStopping() {
				break
			}
			slog.Error("the database server could not be started again; this is tried on", "error", err)
			time.Sleep(wait)
		}
		if s.isStopping() {
			return
		}
	}
}

func (s *Server) isStopping() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.stopping
}

// accountStatements are what the server carries out before it listens, a statement a line. Whatever accounts there are go,
// those without a password that a set-up makes and those that somebody has added among them; what stays is the service's own,
// with a password that nobody has seen before, and root's, which the socket lets in if the system says that it is root.
// mariadb.sys cannot sign in; the server's own views belong to it.
func accountStatements(password string) string {
	var text strings.Builder
	for _, table := range []string{"global_priv", "db", "tables_priv", "columns_priv", "procs_priv", "proxies_priv", "roles_mapping"} {
		fmt.Fprintf(&text, "DELETE FROM mysql.%s WHERE User <> 'mariadb.sys';\n", table)
	}
	fmt.Fprintf(&text, `FLUSH PRIVILEGES;
CREATE USER 'root'@'localhost' IDENTIFIED VIA unix_socket;
GRANT ALL ON *.* TO 'root'@'localhost' WITH GRANT OPTION;
CREATE DATABASE IF NOT EXISTS %[2]s CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci;
CREATE USER '%[2]s'@'127.0.0.1' IDENTIFIED BY '%[1]s' REQUIRE SSL;
GRANT ALL ON `+"`%[2]s%%`"+`.* TO '%[2]s'@'127.0.0.1';
`, password, databaseName)
	return text.String()
}

func (s *Server) waitReady(ctx context.Context, p *process) error {
	ctx, cancel := context.WithTimeout(ctx, startWait)
	defer cancel()
	for {
		if ping(ctx, s.DSN()) == nil {
			return nil
		}
		select {
		case <-p.exited:
			return fmt.Errorf("%w: %w", errEnded, p.failure)
		case <-ctx.Done():
			return fmt.Errorf("the database server does not answer: %w", ctx.Err())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// DSN gives the address to open the database by. It holds the password, and stays the same as long as the Server lives: whoever
// opens it is led to the port of the day, and to the holder of this server's key.
func (s *Server) DSN() string {
	config := mysql.NewConfig()
	config.User, config.Passwd, config.DBName = databaseName, s.password, databaseName
	config.Net, config.Addr, config.TLSConfig = s.identity.name, "127.0.0.1:0", s.identity.name // the port is filled in when it is dialled
	return config.FormatDSN()
}

// enlist tells the driver, under a name of this server's own, how it is reached and how it is known.
func (s *Server) enlist() error {
	mysql.RegisterDialContext(s.identity.name, func(ctx context.Context, _ string) (net.Conn, error) {
		s.mu.Lock()
		port := s.port
		s.mu.Unlock()
		var dialer net.Dialer
		return dialer.DialContext(ctx, "tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	})
	return mysql.RegisterTLSConfig(s.identity.name, s.identity.client())
}

func (s *Server) delist() {
	mysql.DeregisterDialContext(s.identity.name)
	mysql.DeregisterTLSConfig(s.identity.name)
}

// Stop ends the server and waits until it has written everything.
func (s *Server) Stop() error {
	s.mu.Lock()
	s.stopping = true
	p := s.process
	s.mu.Unlock()
	err := p.stop()
	<-s.ended
	s.delist()
	if gone := os.Remove(s.home.pidFile()); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}

// stop ends a process and waits for that.
func (p *process) stop() error {
	select {
	case <-p.exited:
		return nil
	default:
	}
	if err := terminate(p.cmd.Process.Pid); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return fmt.Errorf("stop the database server: %w", err)
	}
	select {
	case <-p.exited:
		return nil
	case <-time.After(stopWait):
		return fmt.Errorf("the database server (process %d) did not stop within %s", p.cmd.Process.Pid, stopWait)
	}
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// telling gives the lines of a program's output that say what went wrong, or its last ones.
func telling(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	var found []string
	for _, line := range lines {
		if lower := strings.ToLower(line); strings.Contains(lower, "error") || strings.Contains(lower, "denied") || strings.Contains(lower, "can't") {
			found = append(found, line)
		}
	}
	if len(found) == 0 {
		found = lines[max(0, len(lines)-3):]
	}
	return strings.Join(found[:min(len(found), 5)], "; ")
}

package store

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"
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
// One that ends of itself is started again: the service outlives its database.
type Server struct {
	home     home
	program  string
	password string
	port     int
	ended    chan struct{} // closed when the server is stopped and is not started again

	mu       sync.Mutex // guards all below
	process  *process
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
	home, err := prepareHome(dir)
	if err != nil {
		return nil, fmt.Errorf("prepare the database's directory: %w", err)
	}
	if err := home.stopStale(ctx); err != nil {
		return nil, err
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

// home is the directory of a server, and the user that owns it.
type home struct {
	dir  string
	user *user.User // nil: the user that runs the service
	more []string   // further options of the server
}

func (h home) data() string    { return filepath.Join(h.dir, "data") }
func (h home) socket() string  { return filepath.Join(h.dir, "server.sock") }
func (h home) pidFile() string { return filepath.Join(h.dir, "server.pid") }
func (h home) log() string     { return filepath.Join(h.dir, "server.log") }

// temporary is where the server puts temporary tables. Servers that share a directory take each other's away.
func (h home) temporary() string { return filepath.Join(h.dir, "tmp") }

// prepareHome makes the directory. Root gives it to an unprivileged user, as the server refuses to run as root.
func prepareHome(dir string) (home, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return home{}, err
	}
	h := home{dir: dir}
	if err := os.MkdirAll(h.temporary(), 0o700); err != nil {
		return home{}, err
	}
	if os.Geteuid() != 0 {
		return h, nil
	}
	for _, name := range []string{"mysql", "nobody"} {
		if h.user, err = user.Lookup(name); err == nil {
			break
		}
	}
	if err != nil {
		return home{}, err
	}
	uid, _ := strconv.Atoi(h.user.Uid)
	gid, _ := strconv.Atoi(h.user.Gid)
	for _, owned := range []string{dir, h.temporary()} {
		if err := os.Chown(owned, uid, gid); err != nil {
			return home{}, err
		}
	}
	return h, h.checkReach()
}

// checkReach finds a directory on the way that lets no other user through: the server could not get to its data.
func (h home) checkReach() error {
	for dir := filepath.Dir(h.dir); ; dir = filepath.Dir(dir) {
		info, err := os.Stat(dir)
		if err != nil {
			return err
		}
		if info.Mode()&0o001 == 0 {
			return fmt.Errorf("the database runs as the user %s, and %s lets no other user through: chmod o+x %[2]s, or choose another data directory", h.user.Username, dir)
		}
		if dir == filepath.Dir(dir) {
			return nil
		}
	}
}

// userArgs tells a program started by root whom to become.
func (h home) userArgs() []string {
	if h.user == nil {
		return nil
	}
	return []string{"--user=" + h.user.Username}
}

// stopStale ends a server that still runs on this directory, as one does whose service was killed.
func (h home) stopStale(ctx context.Context) error {
	text, err := os.ReadFile(h.pidFile())
	if err != nil {
		return nil // no file, no server
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil || !h.isOurs(pid) {
		return os.Remove(h.pidFile())
	}
	if err := terminate(pid); err != nil {
		return fmt.Errorf("stop the database server of an earlier run (process %d): %w", pid, err)
	}
	ctx, cancel := context.WithTimeout(ctx, stopWait)
	defer cancel()
	for h.isOurs(pid) {
		if err := pause(ctx, 50*time.Millisecond); err != nil {
			return fmt.Errorf("the database server of an earlier run (process %d) does not stop: %w", pid, err)
		}
	}
	return nil
}

// isOurs reports whether a process is a server on this directory; process numbers are used again.
func (h home) isOurs(pid int) bool {
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err == nil && strings.Contains(string(line), "--datadir="+h.data()+"\x00")
}

// initialise makes the system tables of a new data directory.
func (h home) initialise(ctx context.Context) error {
	if _, err := os.Stat(filepath.Join(h.data(), "mysql")); err == nil {
		return nil
	}
	program, err := findProgram("mariadb-install-db")
	if err != nil {
		return err
	}
	args := append([]string{"--no-defaults", "--datadir=" + h.data(), "--tmpdir=" + h.temporary(), "--skip-test-db", "--auth-root-authentication-method=normal"}, h.userArgs()...)
	out, err := exec.CommandContext(ctx, program, args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("make a new database in %s: %w: %s", h.data(), err, telling(string(out)))
	}
	return nil
}

// start runs the server with a password of its own, and keeps it running.
func (h home) start(ctx context.Context, program string) (*Server, error) {
	password, err := randomText()
	if err != nil {
		return nil, err
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	s := &Server{home: h, program: program, password: password, port: port, ended: make(chan struct{})}
	if err := s.launch(ctx); err != nil {
		return nil, err
	}
	go s.supervise()
	return s, nil
}

// launch starts the program and waits until it answers.
func (s *Server) launch(ctx context.Context) error {
	h := s.home
	initFile, err := h.writeInitFile(s.password)
	if err != nil {
		return err
	}
	defer os.Remove(initFile)
	args := append([]string{
		"--no-defaults", "--datadir=" + h.data(), "--tmpdir=" + h.temporary(), "--socket=" + h.socket(), "--pid-file=" + h.pidFile(),
		"--log-error=" + h.log(), "--init-file=" + initFile, "--bind-address=127.0.0.1", "--port=" + strconv.Itoa(s.port),
		"--skip-name-resolve", "--character-set-server=utf8mb4", "--collation-server=utf8mb4_unicode_ci",
		"--innodb-buffer-pool-size=256M", "--innodb-log-file-size=128M", "--max-allowed-packet=64M",
		"--performance-schema=OFF", "--skip-log-bin", "--local-infile=OFF",
	}, slices.Concat(h.userArgs(), h.more)...)
	cmd := exec.Command(s.program, args...)
	// A signal to the whole terminal (Ctrl-C) must not reach the server before the service has written what it has.
	cmd.SysProcAttr = ownGroup()
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start the database server: %w", err)
	}
	p := &process{cmd: cmd, exited: make(chan struct{})}
	go func() {
		p.failure = cmd.Wait()
		close(p.exited)
	}()
	s.mu.Lock()
	s.process = p
	stopping := s.stopping
	s.mu.Unlock()
	if stopping {
		return p.stop()
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

// writeInitFile writes what the server carries out at its start: it sets the passwords and makes the database.
func (h home) writeInitFile(password string) (string, error) {
	text := fmt.Sprintf(`ALTER USER 'root'@'localhost' IDENTIFIED BY '%[1]s';
CREATE DATABASE IF NOT EXISTS %[2]s CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci;
CREATE OR REPLACE USER '%[2]s'@'127.0.0.1' IDENTIFIED BY '%[1]s';
GRANT ALL ON `+"`%[2]s%%`"+`.* TO '%[2]s'@'127.0.0.1';
`, password, databaseName)
	path := filepath.Join(h.dir, "start.sql")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		return "", err
	}
	if h.user == nil {
		return path, nil
	}
	uid, _ := strconv.Atoi(h.user.Uid)
	return path, os.Chown(path, uid, -1)
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
			return fmt.Errorf("the database server ended at its start: %w", p.failure)
		case <-ctx.Done():
			return fmt.Errorf("the database server does not answer: %w", ctx.Err())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// DSN gives the address to open the database by. It holds the password, and stays the same as long as the Server lives.
func (s *Server) DSN() string {
	config := mysql.NewConfig()
	config.User, config.Passwd, config.Net, config.DBName = databaseName, s.password, "tcp", databaseName
	config.Addr = net.JoinHostPort("127.0.0.1", strconv.Itoa(s.port))
	return config.FormatDSN()
}

// Stop ends the server and waits until it has written everything.
func (s *Server) Stop() error {
	s.mu.Lock()
	s.stopping = true
	p := s.process
	s.mu.Unlock()
	err := p.stop()
	<-s.ended
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

func randomText() (string, error) {
	b := make([]byte, 20)
	if _, err := rand.Read(b); err != nil {
		return "", err
	}
	return hex.EncodeToString(b), nil
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

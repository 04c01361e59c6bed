package store

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

const (
	databaseName = "airdrift"
	startWait    = 60 * time.Second
	stopWait     = 60 * time.Second
)

// ErrNoServer is returned where no MariaDB server program is installed.
var ErrNoServer = errors.New("no MariaDB server program (mariadbd) is installed: install the package mariadb-server, " +
	"or name a running server with --dsn")

// Server is a MariaDB server of Airdrift's own, on loopback, with its own data directory.
type Server struct {
	dsn     string
	process *exec.Cmd
	exited  chan struct{} // closed when the process has ended
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
	if err := syscall.Kill(pid, syscall.SIGTERM); err != nil {
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

// start runs the server with a password of its own.
func (h home) start(ctx context.Context, program string) (*Server, error) {
	password, err := randomText()
	if err != nil {
		return nil, err
	}
	initFile, err := h.writeInitFile(password)
	if err != nil {
		return nil, err
	}
	defer os.Remove(initFile)
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	args := append([]string{
		"--no-defaults", "--datadir=" + h.data(), "--tmpdir=" + h.temporary(), "--socket=" + h.socket(), "--pid-file=" + h.pidFile(),
		"--log-error=" + h.log(), "--init-file=" + initFile, "--bind-address=127.0.0.1", "--port=" + strconv.Itoa(port),
		"--skip-name-resolve", "--character-set-server=utf8mb4", "--collation-server=utf8mb4_unicode_ci",
		"--innodb-buffer-pool-size=256M", "--innodb-log-file-size=128M", "--max-allowed-packet=64M",
		"--performance-schema=OFF", "--skip-log-bin", "--local-infile=OFF",
	}, h.userArgs()...)
	cmd := exec.Command(program, args...)
	// A signal to the whole terminal (Ctrl-C) must not reach the server before the service has written what it has.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start the database server: %w", err)
	}
	s := &Server{process: cmd, exited: make(chan struct{})}
	go func() {
		s.failure = cmd.Wait()
		close(s.exited)
	}()
	config := mysql.NewConfig()
	config.User, config.Passwd, config.Net, config.DBName = databaseName, password, "tcp", databaseName
	config.Addr = net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
	s.dsn = config.FormatDSN()
	if err := s.waitReady(ctx); err != nil {
		_ = s.Stop()
		return nil, fmt.Errorf("%w (its log is %s)", err, h.log())
	}
	return s, nil
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

func (s *Server) waitReady(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, startWait)
	defer cancel()
	for {
		if ping(ctx, s.dsn) == nil {
			return nil
		}
		select {
		case <-s.exited:
			return fmt.Errorf("the database server ended at its start: %w", s.failure)
		case <-ctx.Done():
			return fmt.Errorf("the database server does not answer: %w", ctx.Err())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// DSN gives the address to open the database by. It holds the password.
func (s *Server) DSN() string { return s.dsn }

// Stop ends the server and waits until it has written everything.
func (s *Server) Stop() error {
	select {
	case <-s.exited:
		return nil
	default:
	}
	if err := s.process.Process.Signal(syscall.SIGTERM); err != nil {
		return fmt.Errorf("stop the database server: %w", err)
	}
	select {
	case <-s.exited:
		return nil
	case <-time.After(stopWait):
		return fmt.Errorf("the database server (process %d) did not stop within %s", s.process.Process.Pid, stopWait)
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

package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"airdrift/internal/atomicfile"
)

// home is the directory of a server. Only the service and the server's user may enter it. Where root runs the service, what
// the service writes lies in the directory itself, which is root's, and what the server writes lies in directories of its own
// user, in which root neither writes nor reads:
//
//	accounts.sql  tls.pem  server.pid     the service's
//	data/  tmp/  run/                     the server's: tables, temporary tables, socket and log
type home struct {
	dir   string
	owner *account // whom the server runs as; nil: the user that runs the service
}

// names of what is in a home, below it.
const (
	dataDir      = "data"
	freshDir     = "data.new" // a first set-up that is not done yet
	temporaryDir = "tmp"      // servers that share a directory take each other's temporary tables away
	runDir       = "run"
)

func (h home) path(name string) string { return filepath.Join(h.dir, name) }
func (h home) data() string            { return h.path(dataDir) }
func (h home) pidFile() string         { return h.path("server.pid") }
func (h home) accounts() string        { return h.path("accounts.sql") }
func (h home) certificate() string     { return h.path("tls.pem") }
func (h home) log() string             { return filepath.Join(h.path(runDir), "server.log") }
func (h home) socket() string          { return filepath.Join(h.path(runDir), "server.sock") }

// prepareHome makes the directory. Root gives what the server writes to an unprivileged user, as whom the server runs.
func prepareHome(ctx context.Context, dir string) (home, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return home{}, err
	}
	h := home{dir: dir}
	if os.Geteuid() == 0 {
		if h.owner, err = serverAccount(ctx); err != nil {
			return home{}, err
		}
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return home{}, err
	}
	if info, err := os.Lstat(dir); err != nil || !info.IsDir() {
		return home{}, errors.Join(err, fmt.Errorf("%s is not a directory", dir))
	}
	if h.owner != nil {
		if err := h.checkReach(); err != nil {
			return home{}, err
		}
	}
	// A server that a killed service has left behind is still at work on these files.
	if err := h.stopStale(ctx); err != nil {
		return home{}, err
	}
	return h, h.claim()
}

// claim makes what is missing and gives everything to whom it belongs, also in a directory that an earlier version has left.
func (h home) claim() error {
	if h.owner != nil {
		if err := h.owner.enterable(h.dir); err != nil {
			return err
		}
	} else if err := os.Chmod(h.dir, 0o700); err != nil {
		return err
	}
	root, err := os.OpenRoot(h.dir)
	if err != nil {
		return err
	}
	defer root.Close()
	// An earlier version let the server write here.
	for _, name := range []string{"server.log", "server.sock", "start.sql"} {
		if err := root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	for _, name := range []string{temporaryDir, runDir} {
		if err := root.Mkdir(name, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	if h.owner == nil {
		return nil
	}
	for _, name := range []string{dataDir, temporaryDir, runDir} {
		if err := h.owner.own(root, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// checkReach finds a directory on the way that lets no other user through, so that the server could not get to its data, or
// in which anybody could put another directory in the place of this one.
func (h home) checkReach() error {
	for dir := filepath.Dir(h.dir); ; dir = filepath.Dir(dir) {
		info, err := os.Stat(dir)
		if err != nil {
			return err
		}
		if info.Mode()&0o001 == 0 {
			return fmt.Errorf("the database runs as the user %s, and %s lets no other user through: chmod o+x %[2]s, or choose another data directory", h.owner.name, dir)
		}
		if info.Mode()&0o002 != 0 && info.Mode()&fs.ModeSticky == 0 {
			return fmt.Errorf("anybody may write in %s, and could put a directory of theirs in the place of the database's: chmod o-w %[1]s, or choose another data directory", dir)
		}
		if dir == filepath.Dir(dir) {
			return nil
		}
	}
}

// stopStale ends a server that still runs on this directory, as one does whose service was killed.
func (h home) stopStale(ctx context.Context) error {
	text, err := readSmall(h.pidFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil // no file, no server
	}
	if err != nil {
		return err
	}
	pid, err := strconv.Atoi(strings.TrimSpace(text))
	if err != nil || !h.isOurs(pid) {
		return os.Remove(h.pidFile())
	}
	if err := terminate(pid); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return fmt.Errorf("stop the database server of an earlier run (process %d): %w", pid, err)
	}
	ctx, cancel := context.WithTimeout(ctx, stopWait)
	defer cancel()
	for h.isOurs(pid) {
		if err := pause(ctx, 50*time.Millisecond); err != nil {
			return fmt.Errorf("the database server of an earlier run (process %d) does not stop: %w", pid, err)
		}
	}
	if err := os.Remove(h.pidFile()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// isOurs reports whether a process is a server on this directory; process numbers are used again.
func (h home) isOurs(pid int) bool {
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err == nil && strings.Contains(string(line), "--datadir="+h.data()+"\x00")
}

// initialise makes the system tables of a new data directory. They are made beside it and take its name once they are whole,
// so that a first set-up that was broken off is begun anew.
func (h home) initialise(ctx context.Context) error {
	root, err := os.OpenRoot(h.dir)
	if err != nil {
		return err
	}
	defer root.Close()
	// The service's own database is made at the first start on whole system tables: without it nothing was ever stored.
	if _, err := root.Lstat(filepath.Join(dataDir, databaseName)); err == nil {
		return nil
	}
	for _, begun := range []string{dataDir, freshDir} {
		if err := root.RemoveAll(begun); err != nil {
			return fmt.Errorf("take a set-up away that was broken off: %w", err)
		}
	}
	if err := root.Mkdir(freshDir, 0o700); err != nil {
		return err
	}
	if h.owner != nil {
		if err := h.owner.own(root, freshDir); err != nil {
			return err
		}
	}
	program, err := findProgram("mariadb-install-db")
	if err != nil {
		return err
	}
	// Of root there is an account for the socket alone here; the server's start leaves no other (accountStatements).
	cmd := h.command(ctx, program, "--no-defaults", "--datadir="+h.path(freshDir), "--tmpdir="+h.path(temporaryDir), "--skip-test-db",
		"--skip-name-resolve", "--auth-root-authentication-method=socket", "--auth-root-socket-user=root")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("make a new database in %s: %w: %s", h.data(), err, telling(string(out)))
	}
	return root.Rename(freshDir, dataDir)
}

// command makes a program that runs as the server's user, in a process group of its own: a signal to the whole terminal
// (Ctrl-C) must not reach the server before the service has written what it has.
func (h home) command(ctx context.Context, program string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir = h.path(runDir)
	cmd.SysProcAttr = h.owner.process()
	return cmd
}

// write writes a file of the service's that the server reads.
func (h home) write(path, text string) error {
	if h.owner == nil {
		return atomicfile.Write(path, []byte(text), 0o600)
	}
	return h.owner.share(path, text)
}

// maxSmall is the longest file of a few words that is read, in bytes.
const maxSmall = 64

// readSmall reads a file of a few words. What is not a file, such as a link or a pipe that a stranger has put there, is not
// followed or waited for.
func readSmall(path string) (string, error) {
	info, err := os.Lstat(path)
	if err != nil {
		return "", err
	}
	if !info.Mode().IsRegular() || info.Size() > maxSmall {
		return "", fmt.Errorf("%s is not the file that belongs there: delete it", path)
	}
	text, err := os.ReadFile(path)
	return string(text), err
}

package store

import (
	"bytes"
	"context"
	"crypto/tls"
	"database/sql"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"golang.org/x/sys/unix"
)

// asStranger calls attack as a user who is neither the service's nor the server's, on a thread of its own.
func asStranger(t *testing.T, attack func()) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root can try this as another user")
	}
	const stranger = 65534
	failed := make(chan error)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with its rights gone
		// The raw calls change this thread alone.
		if _, _, errno := unix.RawSyscall(unix.SYS_SETGROUPS, 0, 0, 0); errno != 0 {
			failed <- errno
			return
		}
		if _, _, errno := unix.RawSyscall(unix.SYS_SETRESGID, stranger, stranger, stranger); errno != 0 {
			failed <- errno
			return
		}
		if _, _, errno := unix.RawSyscall(unix.SYS_SETRESUID, stranger, stranger, stranger); errno != 0 {
			failed <- errno
			return
		}
		attack()
		failed <- nil
	}()
	if err := <-failed; err != nil {
		t.Fatal(err)
	}
}

// Another user of the machine tries every account there could be, without a password and with the likeliest, by the socket
// and by each address of loopback, in the clear and by TLS: none lets him in.
func TestNoAccountLetsAStrangerIn(t *testing.T) {
	dir := serverHome(t)
	server := startServer(t, dir)
	_, addr, err := net.SplitHostPort(addressOf(t, server))
	if err != nil {
		t.Fatal(err)
	}
	host, err := os.Hostname()
	if err != nil {
		t.Fatal(err)
	}
	socket := filepath.Join(dir, "run", "server.sock")
	asStranger(t, func() {
		for _, name := range []string{"root", "airdrift", "", "mysql", "mariadb.sys", "nobody", "airdrift-db", host} {
			for _, password := range []string{"", "root", "airdrift", "invalid"} {
				for _, at := range []string{"127.0.0.1", "127.0.0.2", "::1", host} {
					for _, secured := range []string{"", "skip-verify"} {
						wantRefused(t, mysql.Config{User: name, Passwd: password, Net: "tcp", Addr: net.JoinHostPort(at, addr), TLSConfig: secured})
					}
				}
				wantRefused(t, mysql.Config{User: name, Passwd: password, Net: "unix", Addr: socket})
			}
		}
	})
	// The one that the service speaks by lets it in, and in the clear not even that.
	if err := ping(t.Context(), server.DSN()); err != nil {
		t.Error(err)
	}
	wantRefused(t, mysql.Config{User: databaseName, Passwd: server.password, Net: "tcp", Addr: net.JoinHostPort("127.0.0.1", addr)})
}

func wantRefused(t *testing.T, config mysql.Config) {
	config.AllowNativePasswords, config.Timeout, config.Logger = true, 5*time.Second, &mysql.NopLogger{}
	connector, err := mysql.NewConnector(&config)
	if err != nil {
		t.Error(err)
		return
	}
	if conn, err := connector.Connect(context.Background()); err == nil {
		_ = conn.Close()
		t.Errorf("%q with the password %q was let in at %s %s, TLS %q", config.User, config.Passwd, config.Net, config.Addr, config.TLSConfig)
	}
}

// addressOf gives the address that a server listens on.
func addressOf(t *testing.T, s *Server) string {
	t.Helper()
	s.mu.Lock()
	defer s.mu.Unlock()
	return net.JoinHostPort("127.0.0.1", strconv.Itoa(s.port))
}

// Accounts that are in a data directory already, be it from an earlier version or added by somebody, are gone at the next
// start. A set-up that was broken off is begun anew, and no program but the one that was started is spoken to.
func TestAccountsOfAnExistingDirectoryAreDropped(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root is let in by the socket to make them")
	}
	dir := serverHome(t)
	for _, begun := range []string{"data/mysql", "data.new/mysql"} {
		if err := os.MkdirAll(filepath.Join(dir, begun), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	first, err := StartServer(t.Context(), dir)
	if err != nil {
		t.Fatalf("after a set-up that was broken off: %v", err)
	}
	if asRoot(t, dir, "SELECT COUNT(*) FROM mysql.global_priv") != 3 { // the service's, root's, and mariadb.sys
		t.Error("a new directory has other accounts than it needs")
	}
	for _, statement := range []string{
		"CREATE USER ''@'localhost'", "CREATE USER 'root'@'127.0.0.1'", "CREATE USER 'mallory'@'%' IDENTIFIED BY 'hush'",
		"GRANT ALL ON *.* TO 'mallory'@'%' WITH GRANT OPTION", "CREATE ROLE thief", "GRANT thief TO 'root'@'127.0.0.1'",
	} {
		asRoot(t, dir, statement)
	}
	wantOwners(t, dir)
	if err := first.Stop(); err != nil {
		t.Fatal(err)
	}
	// As an earlier version has left it: all of it belongs to a user that other services share.
	err = filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		return errors.Join(err, os.Lchown(path, 65534, 65534))
	})
	if err := errors.Join(err, os.WriteFile(filepath.Join(dir, "server.log"), []byte("old"), 0o666)); err != nil {
		t.Fatal(err)
	}
	second := startServer(t, dir)
	wantOwners(t, dir)
	if _, err := os.Lstat(filepath.Join(dir, "server.log")); err == nil {
		t.Error("a file of the earlier version is left")
	}
	if n := asRoot(t, dir, "SELECT COUNT(*) FROM mysql.global_priv"); n != 3 {
		t.Errorf("after the next start there are %d accounts", n)
	}
	if second.password == first.password {
		t.Error("the next start has the same password")
	}
	if err := ping(t.Context(), first.DSN()); err == nil {
		t.Error("the password of the first start is taken by the next")
	}
}

// wantOwners holds who owns what in the directory of a server that root runs: the server writes in none of root's
// directories, and nobody else looks into any.
func wantOwners(t *testing.T, dir string) {
	t.Helper()
	owner, err := user.Lookup(serverUser)
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]struct {
		uid  string
		mode os.FileMode
	}{"": {"0", 0o750}, "data": {owner.Uid, 0o700}, "tmp": {owner.Uid, 0o700}, "run": {owner.Uid, 0o700}, "server.pid": {"0", 0o600}} {
		info, err := os.Lstat(filepath.Join(dir, name))
		if err != nil {
			t.Error(err)
			continue
		}
		if uid := strconv.Itoa(int(info.Sys().(*syscall.Stat_t).Uid)); uid != want.uid || info.Mode().Perm() != want.mode {
			t.Errorf("%q belongs to %s with %o, want %s with %o", name, uid, info.Mode().Perm(), want.uid, want.mode)
		}
	}
	for _, name := range []string{"accounts.sql", "tls.pem"} {
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			t.Errorf("%s is left behind", name)
		}
	}
}

// asRoot carries out a statement by the socket, which knows root by the system's word, and gives the number it answers, if any.
func asRoot(t *testing.T, dir, statement string) (n int) {
	t.Helper()
	db, err := sql.Open("mysql", "root@unix("+filepath.Join(dir, "run", "server.sock")+")/")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if !strings.HasPrefix(statement, "SELECT") {
		_, err = db.Exec(statement)
	} else {
		err = db.QueryRow(statement).Scan(&n)
	}
	if err != nil {
		t.Fatalf("%s: %v", statement, err)
	}
	return n
}

// Whoever owned the directory before has laid links in it to files of root's: they are refused, and nothing happens to what
// they point to.
func TestLinksInTheDirectoryAreRefused(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root gives files to others")
	}
	dir := serverHome(t)
	parent := filepath.Dir(dir)
	victim := filepath.Join(parent, "shadow")
	for name, lay := range map[string]func() error{
		"a link among the tables": func() error {
			return errors.Join(os.MkdirAll(filepath.Join(dir, "data", "airdrift"), 0o700), os.Symlink(victim, filepath.Join(dir, "data", "airdrift", "x")))
		},
		"a second name of a file": func() error {
			return errors.Join(os.MkdirAll(filepath.Join(dir, "data", "airdrift"), 0o700), os.Link(victim, filepath.Join(dir, "data", "airdrift", "x")))
		},
		"the tables a link":    func() error { return os.Symlink(parent, filepath.Join(dir, "data")) },
		"the temporary a link": func() error { return os.Symlink(parent, filepath.Join(dir, "tmp")) },
		"the pid file a link":  func() error { return os.Symlink(victim, filepath.Join(dir, "server.pid")) },
		"the pid file a pipe":  func() error { return syscall.Mkfifo(filepath.Join(dir, "server.pid"), 0o666) },
		"the accounts a link, which is replaced": func() error {
			return errors.Join(os.Symlink(victim, filepath.Join(dir, "accounts.sql")), os.Symlink(parent, filepath.Join(dir, "run")))
		},
	} {
		t.Run(name, func(t *testing.T) {
			if err := os.RemoveAll(dir); err != nil {
				t.Fatal(err)
			}
			if err := errors.Join(os.WriteFile(victim, []byte("root's own\n"), 0o600), os.Mkdir(dir, 0o777), os.Chown(dir, 65534, 65534), lay()); err != nil {
				t.Fatal(err)
			}
			if server, err := StartServer(t.Context(), dir); err == nil {
				_ = server.Stop()
				t.Error("the server was started on it")
			}
			info, err := os.Lstat(victim)
			if text, readErr := os.ReadFile(victim); err != nil || readErr != nil || string(text) != "root's own\n" || info.Sys().(*syscall.Stat_t).Uid != 0 || info.Mode().Perm() != 0o600 {
				t.Errorf("the victim is now %v with %q, %v", info, text, err)
			}
			if info, err := os.Lstat(parent); err != nil || info.Sys().(*syscall.Stat_t).Uid != 0 {
				t.Errorf("the directory above is now %v, %v", info, err)
			}
		})
	}
}

// Another program that has taken the port gets no word of the service's, whether it speaks TLS or not.
func TestImpostorsLearnNothing(t *testing.T) {
	wanted, err := newIdentity()
	if err != nil {
		t.Fatal(err)
	}
	own, err := newIdentity()
	if err != nil {
		t.Fatal(err)
	}
	pair, err := tls.X509KeyPair([]byte(own.pem), []byte(own.pem))
	if err != nil {
		t.Fatal(err)
	}
	for name, secured := range map[string]bool{"in the clear": false, "by TLS with a key of its own": true} {
		t.Run(name, func(t *testing.T) {
			listener, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			defer listener.Close()
			heard := make(chan []byte, 1)
			go func() {
				conn, err := listener.Accept()
				if err != nil {
					heard <- nil
					return
				}
				defer conn.Close()
				heard <- impersonate(conn, secured, pair)
			}()
			s := &Server{password: "hush-hush-hush", identity: wanted, port: listener.Addr().(*net.TCPAddr).Port}
			if err := s.enlist(); err != nil {
				t.Fatal(err)
			}
			defer s.delist()
			err = ping(t.Context(), s.DSN())
			if err == nil || secured && !errors.Is(err, errImpostor) {
				t.Errorf("the impostor was met with %v", err)
			}
			if said := <-heard; bytes.Contains(said, []byte(databaseName)) {
				t.Errorf("the impostor was told %q", said)
			}
		})
	}
}

// impersonate greets as a MariaDB server does (protocol 10), and gives all that it is told.
func impersonate(conn net.Conn, secured bool, pair tls.Certificate) []byte {
	const (
		basic   = 0x0200 | 0x8000 | 0x0001 // protocol 4.1, secure connection, long password
		ssl     = 0x0800
		plugins = 0x0008 // of the upper half: authentication plugins
	)
	capabilities := basic
	if secured {
		capabilities |= ssl
	}
	greeting := append([]byte{10}, "10.11.0-impostor\x00"...)
	greeting = append(greeting, 1, 0, 0, 0)
	greeting = append(greeting, "abcdefgh\x00"...)
	greeting = append(greeting, byte(capabilities), byte(capabilities>>8), 45, 2, 0, plugins, 0, 21)
	greeting = append(greeting, make([]byte, 10)...)
	greeting = append(greeting, "ijklmnopqrst\x00mysql_native_password\x00"...)
	if _, err := conn.Write(append([]byte{byte(len(greeting)), 0, 0, 0}, greeting...)); err != nil {
		return nil
	}
	_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
	if !secured {
		said, _ := io.ReadAll(conn)
		return said
	}
	request := make([]byte, 36) // a request for TLS has this length
	if _, err := io.ReadFull(conn, request); err != nil {
		return nil
	}
	said, _ := io.ReadAll(tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{pair}}))
	return said
}

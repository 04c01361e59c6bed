//go:build unix

package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"

	"airdrift/internal/atomicfile"
)

// serverUser is whom the database runs as where root runs the service. It is nobody else's: others that are shared by several
// services, such as nobody, would let those read the database.
const serverUser = "airdrift-db"

// account is the user whom the server runs as.
type account struct {
	name     string
	uid, gid int
}

// serverAccount finds the server's user, and makes it where it is missing.
func serverAccount(ctx context.Context) (*account, error) {
	found, err := user.Lookup(serverUser)
	var unknown user.UnknownUserError
	if errors.As(err, &unknown) {
		program, missing := findProgram("useradd")
		if missing != nil {
			return nil, fmt.Errorf("the database runs as a user of its own, which is not there, and useradd is not installed: make a system user %s and a group of that name", serverUser)
		}
		out, failed := exec.CommandContext(ctx, program, "--system", "--user-group", "--no-create-home", "--home-dir", "/nonexistent",
			"--shell", "/usr/sbin/nologin", "--comment", "Airdrift database", serverUser).CombinedOutput()
		// Where two services start at once the other may have made it meanwhile.
		if found, err = user.Lookup(serverUser); err != nil {
			return nil, fmt.Errorf("make the user %s for the database: %w: %s", serverUser, errors.Join(failed, err), telling(string(out)))
		}
	}
	if err != nil {
		return nil, err
	}
	uid, uidErr := strconv.Atoi(found.Uid)
	gid, gidErr := strconv.Atoi(found.Gid)
	if err := errors.Join(uidErr, gidErr); err != nil || uid == 0 {
		return nil, errors.Join(err, fmt.Errorf("the user %s has the number %s", serverUser, found.Uid))
	}
	return &account{serverUser, uid, gid}, nil
}

// process says how a program of the server's is started: in a group of its own and as the server's user, without any right
// of root's from its first instruction on.
func (a *account) process() *syscall.SysProcAttr {
	attr := &syscall.SysProcAttr{Setpgid: true}
	if a != nil {
		attr.Credential = &syscall.Credential{Uid: uint32(a.uid), Gid: uint32(a.gid)}
	}
	return attr
}

// enterable makes a directory root's own, in which the server's user may look and not write.
func (a *account) enterable(dir string) error {
	return errors.Join(os.Lchown(dir, os.Geteuid(), a.gid), os.Chmod(dir, 0o750))
}

// own gives a directory, all that is in it included, to the server's user. Links are refused, whether by name or by a second
// name of one file: whoever owned the directory before could have put other people's files there.
func (a *account) own(root *os.Root, dir string) error {
	return fs.WalkDir(root.FS(), dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := root.Lstat(path)
		if err != nil {
			return err
		}
		stat, _ := info.Sys().(*syscall.Stat_t)
		switch {
		case info.Mode().Type() == fs.ModeSocket, stat != nil && int(stat.Uid) == a.uid && int(stat.Gid) == a.gid:
			return nil // its own already, or nothing that could be read
		case !info.IsDir() && !info.Mode().IsRegular(), info.Mode().IsRegular() && stat != nil && stat.Nlink > 1:
			return fmt.Errorf("%s in the database's directory is a link or no ordinary file, and a database has none: delete it", path)
		}
		return root.Lchown(path, a.uid, a.gid)
	})
}

// share writes a file in a directory of root's that the server's user may read and nobody else.
func (a *account) share(path, text string) error {
	if err := atomicfile.Write(path, []byte(text), 0o600); err != nil {
		return err
	}
	return errors.Join(os.Lchown(path, os.Geteuid(), a.gid), os.Chmod(path, 0o640))
}

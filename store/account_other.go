//go:build !unix

package store

import (
	"context"
	"errors"
	"os"
	"syscall"
)

// account is the user whom the server runs as; here it is always the one that runs the service.
type account struct{ name string }

var errNoAccounts = errors.New("a database of another user's is run on Unix alone")

func serverAccount(context.Context) (*account, error) { return nil, errNoAccounts }
func (*account) process() *syscall.SysProcAttr        { return nil }
func (*account) enterable(string) error               { return errNoAccounts }
func (*account) own(*os.Root, string) error           { return errNoAccounts }
func (*account) share(string, string) error           { return errNoAccounts }

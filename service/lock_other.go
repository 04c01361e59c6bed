//go:build !unix

package service

import "os"

// lockWhole is not to be had here; the port is what keeps a second service away.
func lockWhole(*os.File) error { return nil }

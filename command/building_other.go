//go:build !linux

package command

import "airdrift/simsite"

// plugIn is not to be had on this system.
func plugIn(*simsite.Site, string, string) (func(), error) {
	return nil, wrongUse("plugging into a simulated building needs Linux")
}

package command

import (
	"errors"
	"fmt"
	"os"
	"runtime"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"

	"airdrift/simsite"
)

// plugIn plugs this machine into a building by an interface, in a network namespace that it makes, or in the present one
// where namespace is empty. leave takes the namespace away again.
func plugIn(site *simsite.Site, namespace, name string) (leave func(), err error) {
	if os.Geteuid() != 0 {
		return nil, wrongUse("plugging in makes a network interface, which needs root")
	}
	if namespace == "" {
		_, err := site.AttachTAP(name, site.Link())
		return func() {}, err
	}
	// A namespace belongs to a thread; an interface stays where it was made.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	home, err := netns.Get()
	if err != nil {
		return nil, fmt.Errorf("present namespace: %w", err)
	}
	defer home.Close()
	made, err := netns.NewNamed(namespace)
	if err != nil {
		return nil, fmt.Errorf("make the namespace %s: %w (is it there already? ip netns delete %[1]s deletes it)", namespace, err)
	}
	defer made.Close()
	leave = func() { _ = netns.DeleteNamed(namespace) } // one that somebody has deleted meanwhile is gone as wanted
	err = func() error {
		lo, err := netlink.LinkByName("lo")
		if err != nil {
			return err
		}
		if err := netlink.LinkSetUp(lo); err != nil {
			return err
		}
		_, err = site.AttachTAP(name, site.Link())
		return err
	}()
	if err = errors.Join(err, netns.Set(home)); err != nil {
		leave()
		return nil, err
	}
	return leave, nil
}

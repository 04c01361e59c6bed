package hostwire

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
	"airdrift/core/probe"
	"airdrift/core/sweep"
	"airdrift/simsite/nstest"
)

// field is a segment with machines on it, each a namespace of its own, and the auditor at eth0 of the test's.
type field struct {
	lab
	t     *testing.T
	hosts int
}

// newField makes the segment and gives the auditor's interface an address on it.
func newField(t *testing.T, addrs ...string) *field {
	f := &field{lab: lab{dir: t.TempDir()}, t: t}
	f.do("ip link add sw0 type bridge mcast_snooping 0 forward_delay 0")
	f.do("ip link set sw0 up")
	f.do("ip link add eth0 type veth peer name port0")
	f.do("ip link set port0 master sw0 up")
	f.do("ip link set eth0 up")
	f.do("ip link set lo up")
	for _, a := range addrs {
		f.do("ip addr add " + a + " dev eth0 nodad")
	}
	return f
}

func (f *field) do(command string) {
	f.t.Helper()
	words := strings.Fields(command)
	f.run(f.t, words[0], words[1:]...)
}

// machine is a host on the segment.
type machine struct {
	field *field
	pid   int
}

// host plugs a machine into the segment, by its eth0.
func (f *field) host(mac string, addrs ...string) machine {
	f.t.Helper()
	f.hosts++
	holder := exec.Command("sleep", "infinity")
	holder.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET, Pdeathsig: syscall.SIGKILL}
	f.launch(f.t, holder)
	m := machine{f, holder.Process.Pid}
	port := "port" + strconv.Itoa(f.hosts)
	f.do(fmt.Sprintf("ip link add %s type veth peer name eth0 netns %d", port, m.pid))
	f.do("ip link set " + port + " master sw0 up")
	m.do("ip link set eth0 address " + mac)
	m.do("ip link set eth0 up")
	m.do("ip link set lo up")
	for _, a := range addrs {
		m.do("ip addr add " + a + " dev eth0 nodad")
	}
	return m
}

func (m machine) do(command string) {
	m.field.t.Helper()
	m.field.run(m.field.t, "nsenter", append([]string{"-t", strconv.Itoa(m.pid), "-n"}, strings.Fields(command)...)...)
}

// starts runs a program on the machine until the end of the test.
func (m machine) starts(path string, args ...string) {
	cmd := exec.Command("nsenter", append([]string{"-t", strconv.Itoa(m.pid), "-n", path}, args...)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	m.field.launch(m.field.t, cmd)
}

// within runs something in the machine's namespace; what sockets it opens belong there from then on.
func (m machine) within(work func() error) {
	m.field.t.Helper()
	runtime.LockOSThread() // its end would be the end of the processes that it has started
	defer runtime.UnlockOSThread()
	var namespaces []*os.File
	for _, path := range []string{"/proc/thread-self/ns/net", fmt.Sprintf("/proc/%d/ns/net", m.pid)} {
		file, err := os.Open(path)
		if err != nil {
			m.field.t.Fatal(err)
		}
		defer file.Close()
		namespaces = append(namespaces, file)
	}
	if err := unix.Setns(int(namespaces[1].Fd()), unix.CLONE_NEWNET); err != nil {
		m.field.t.Fatal(err)
	}
	err := work()
	if err := errors.Join(err, unix.Setns(int(namespaces[0].Fd()), unix.CLONE_NEWNET)); err != nil {
		m.field.t.Fatal(err)
	}
}

// serves accepts connections on the machine and hands them over.
func (m machine) serves(at string, handle func(net.Conn)) {
	m.field.t.Helper()
	m.within(func() error {
		listener, err := net.Listen("tcp", at)
		if err != nil {
			return err
		}
		m.field.t.Cleanup(func() { listener.Close() })
		go func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				go handle(conn)
			}
		}()
		return nil
	})
}

// greets says a text to who connects.
func (m machine) greets(at, text string) {
	m.serves(at, func(conn net.Conn) {
		defer conn.Close()
		_, _ = io.WriteString(conn, text)
	})
}

// seen is what a sweep told.
type seen struct {
	summary  sweep.Summary
	last     map[string]evidence.Sighting // by "address MAC"
	warnings []string
}

// at gives the last sighting of an address by a MAC; the MAC may be left out.
func (s seen) at(addr, mac string) evidence.Sighting {
	for key, sighting := range s.last {
		if strings.HasPrefix(key, addr+" ") && strings.HasSuffix(key, mac) {
			return sighting
		}
	}
	return evidence.Sighting{}
}

// devices gives what the ledger makes of it.
func (s seen) devices() []ledger.Device {
	var sightings []evidence.Sighting
	for _, sighting := range s.last {
		sightings = append(sightings, sighting)
	}
	return ledger.Apply(nil, nil, ledger.Sweep{ID: 1, Sightings: sightings}, identify.New(identify.Default(), nil)).Devices
}

func (s seen) warned(text string) bool {
	return slices.ContainsFunc(s.warnings, func(w string) bool { return strings.Contains(w, text) })
}

// sweeps looks through ranges from an interface.
func (f *field) sweeps(from, ranges string, change func(*sweep.Order), during func(sweep.Event)) seen {
	f.t.Helper()
	w, err := New(from)
	if err != nil {
		f.t.Fatal(err)
	}
	o := sweep.Order{Fence: []netip.Prefix{netip.MustParsePrefix("10.78.0.0/24"), netip.MustParsePrefix("fd00:78::/64")}, Pace: sweep.Brisk, Ports: []uint16{21, 22, 23, 80}, Seed: 1}
	if ranges != "" {
		if o.Ranges, err = netrange.Parse(ranges); err != nil {
			f.t.Fatal(err)
		}
	}
	if change != nil {
		change(&o)
	}
	got := seen{last: map[string]evidence.Sighting{}}
	ctx, cancel := context.WithTimeout(f.t.Context(), 2*time.Minute)
	defer cancel()
	got.summary, err = sweep.Run(ctx, w, o, func(e sweep.Event) {
		switch e := e.(type) {
		case sweep.Sighted:
			got.last[e.Sighting.Addr.String()+" "+e.Sighting.MAC.String()] = e.Sighting
		case sweep.Warning:
			got.warnings = append(got.warnings, e.Text)
		}
		if during != nil {
			during(e)
		}
	})
	if err != nil || got.summary.Stopped {
		f.t.Fatalf("the sweep ended as %+v, %v", got.summary, err)
	}
	return got
}

// A real server that negotiates authentication, encryption and the terminal's type before it shows anything.
func TestFieldTelnet(t *testing.T) {
	path := installed(t, "telnetd")
	if path == "" {
		t.Skip("telnetd is not installed: make servers installs it")
	}
	if !nstest.Inside(t) {
		return
	}
	f := newField(t, "10.78.0.1/24")
	login := filepath.Join(f.dir, "login")
	if err := os.WriteFile(login, []byte("#!/bin/sh\nstty -echo\necho Ballast 3000\nprintf 'login: '\nread name\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	f.host("02:00:00:00:00:02", "10.78.0.2/24").serves("10.78.0.2:23", func(conn net.Conn) {
		defer conn.Close()
		file, err := conn.(*net.TCPConn).File()
		if err != nil {
			return
		}
		defer file.Close()
		server := exec.Command(path, "-h", "-E", login)
		server.Stdin, server.Stdout = file, file
		server.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		_ = server.Run() // it ends when we hang up
	})
	items := f.sweeps("eth0", "10.78.0.2", nil, nil).at("10.78.0.2", "").Items
	if banner := evidence.First(items, "text.telnet"); banner != "Ballast 3000" || !strings.Contains(evidence.First(items, "text.telnet-options"), "TTYPE") {
		t.Errorf("the banner is %q, the options %q", banner, evidence.Values(items, "text.telnet-options"))
	}
}

// Two machines that hold one address are each asked, and the neighbour entry is put back. Where there is a real server to run, each has
// one, with keys of its own.
func TestFieldTwoMachinesAtOneAddress(t *testing.T) {
	dropbear := installed(t, "dropbear")
	if !nstest.Inside(t) {
		return
	}
	f := newField(t, "10.78.0.1/24")
	for i, name := range []string{"one", "other"} {
		m := f.host(fmt.Sprintf("02:00:00:00:00:0%d", 5+i), "10.78.0.50/24")
		m.greets("10.78.0.50:21", "220 "+name+"\r\n")
		if dropbear != "" {
			key := filepath.Join(f.dir, "key-"+name)
			f.run(t, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key)
			f.run(t, "dropbearconvert", "openssh", "dropbear", key, key+".own")
			m.starts(dropbear, "-F", "-E", "-r", key+".own", "-p", "22", "-P", key+".pid")
		}
	}
	var got seen
	// The servers take their time to start, and there is no other sign of that than their answers.
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); {
		got = f.sweeps("eth0", "10.78.0.50", nil, nil)
		one, other := got.at("10.78.0.50", "02:00:00:00:00:05"), got.at("10.78.0.50", "02:00:00:00:00:06")
		keys := append(evidence.Values(one.Items, "ssh.hostkey"), evidence.Values(other.Items, "ssh.hostkey")...)
		if dropbear == "" || len(keys) == 2 && keys[0] != keys[1] {
			break
		}
		if time.Now().Add(time.Second).After(end) {
			t.Errorf("the keys of the two are %q", keys)
		}
	}
	for i, name := range []string{"one", "other"} {
		s := got.at("10.78.0.50", fmt.Sprintf("02:00:00:00:00:0%d", 5+i))
		if banners := evidence.Values(s.Items, "ftp.greeting"); !slices.Equal(banners, []string{"220 " + name}) || !s.Whole {
			t.Errorf("%s said %q; asked to the end: %v", s.MAC, banners, s.Whole)
		}
		if evidence.First(s.Items, evidence.KeyPinned) != "10.78.0.50" {
			t.Errorf("of %s it is not said in which way it was asked", s.MAC)
		}
	}
	device, err := netlink.LinkByName("eth0")
	if err != nil {
		t.Fatal(err)
	}
	neighbours, err := netlink.NeighList(device.Attrs().Index, netlink.FAMILY_V4)
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range neighbours {
		if n.State == netlink.NUD_PERMANENT {
			t.Errorf("the neighbour %s has stayed fixed to %s", n.IP, n.HardwareAddr)
		}
	}
}

// A router answers ARP for a whole range, and one machine really is behind it: that one is a device of its own.
func TestFieldProxyARP(t *testing.T) {
	if !nstest.Inside(t) {
		return
	}
	f := newField(t, "10.78.0.1/24")
	router := f.host("02:00:00:00:00:09", "10.78.0.9/32")
	behind := f.host("02:00:00:00:00:0a")
	f.do("ip link set port2 nomaster") // the cable goes to the router instead
	f.do(fmt.Sprintf("ip link set port2 netns %d", router.pid))
	router.do("ip link set port2 up")
	router.do("ip addr add 10.78.0.129/25 dev port2")
	router.do("ip route add 10.78.0.0/25 dev eth0")
	router.do("sysctl -qw net.ipv4.ip_forward=1 net.ipv4.conf.eth0.proxy_arp=1 net.ipv4.conf.port2.proxy_arp=1 net.ipv4.neigh.eth0.proxy_delay=0")
	behind.do("ip addr add 10.78.0.200/25 dev eth0")
	behind.do("ip route add default via 10.78.0.129")
	behind.greets("10.78.0.200:21", "220 behind\r\n")
	router.greets("10.78.0.9:22", "SSH-2.0-router\r\n")
	got := f.sweeps("eth0", "10.78.0.2-254", nil, nil)
	for _, d := range got.devices() {
		if slices.Contains(d.Addrs, netip.MustParseAddr("10.78.0.200")) && len(d.Addrs) != 1 {
			t.Errorf("who is behind the router is a device at %v", d.Addrs)
		}
	}
	if s := got.at("10.78.0.200", ""); evidence.First(s.Items, "ftp.greeting") != "220 behind" || !s.Whole || evidence.First(s.Items, "ssh.greeting") != "" {
		t.Errorf("behind the router there is %+v", s)
	}
	if s := got.at("10.78.0.9", ""); evidence.First(s.Items, "ssh.greeting") == "" || evidence.First(s.Items, "ftp.greeting") != "" {
		t.Errorf("the router said %+v", s.Items)
	}
	for _, empty := range []string{"10.78.0.150", "10.78.0.222"} {
		if s := got.at(empty, ""); s.Whole {
			t.Errorf("%s, with nobody behind, was asked as %+v", empty, s)
		}
	}
}

// A pair of routers with a virtual address: it belongs to the one whose own tables give it.
func TestFieldVirtualRouter(t *testing.T) {
	keepalived, snmpd := installed(t, "keepalived"), installed(t, "snmpd")
	if keepalived == "" || snmpd == "" {
		t.Skip("keepalived and snmpd are not installed: make servers installs them")
	}
	if !nstest.Inside(t) {
		return
	}
	f := newField(t, "10.78.0.1/24")
	for i, priority := range []int{200, 100} {
		m := f.host(fmt.Sprintf("02:00:00:00:00:1%d", i), fmt.Sprintf("10.78.0.1%d/24", i))
		dir := filepath.Join(f.dir, strconv.Itoa(i))
		if err := os.Mkdir(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		write := func(name, text string) string {
			path := filepath.Join(dir, name)
			if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
			return path
		}
		state := map[bool]string{true: "MASTER", false: "BACKUP"}[i == 0]
		m.starts(keepalived, "-n", "-l", "-P", "-p", filepath.Join(dir, "pid"), "-r", filepath.Join(dir, "vrrp"), "-f", write("keepalived.conf", fmt.Sprintf(
			"global_defs {\n vrrp_garp_master_refresh 2\n}\nvrrp_instance one {\n state %s\n interface eth0\n use_vmac\n virtual_router_id 51\n priority %d\n advert_int 1\n virtual_ipaddress {\n 10.78.0.254/24\n }\n}\n", state, priority)))
		m.starts(snmpd, "-f", "-Lo", "-C", "-c", write("snmpd.conf", "agentaddress udp:161\nrocommunity public\nsysName router-"+strconv.Itoa(i)+"\n"),
			"-p", filepath.Join(dir, "snmpd.pid"), "--persistentDir="+dir)
	}
	var got seen
	var virtual, master evidence.Sighting
	// The pair takes its time to settle, and there is no other sign of that than the answer.
	for end := time.Now().Add(time.Minute); time.Now().Before(end); {
		got = f.sweeps("eth0", "10.78.0.2-254", nil, nil)
		virtual, master = got.at("10.78.0.254", ""), got.at("10.78.0.10", "02:00:00:00:00:10")
		if virtual.Whole && slices.Contains(evidence.Values(master.Items, "snmp.address"), "10.78.0.254") {
			break
		}
	}
	if !virtual.MAC.IsShared() {
		t.Fatalf("the virtual address is at %s; the master tells %v", virtual.MAC, evidence.Values(master.Items, "snmp.address"))
	}
	devices := got.devices()
	for _, d := range devices {
		if slices.Contains(d.Addrs, netip.MustParseAddr("10.78.0.254")) && (!slices.Contains(d.Addrs, netip.MustParseAddr("10.78.0.10")) || slices.Contains(d.Addrs, netip.MustParseAddr("10.78.0.11"))) {
			t.Errorf("the virtual address belongs to a device at %v", d.Addrs)
		}
	}
	if len(devices) != 2 { // the two routers
		t.Errorf("there are %d devices", len(devices))
	}
}

// A site of IPv6 alone can be swept, and a machine with IPv6 alone is asked like any other.
func TestFieldIPv6Alone(t *testing.T) {
	if !nstest.Inside(t) {
		return
	}
	f := newField(t, "fd00:78::1/64")
	f.host("02:00:00:00:00:16", "fd00:78::16/64").greets("[fd00:78::16]:21", "220 six\r\n")
	got := f.sweeps("eth0", "", func(o *sweep.Order) { o.Fence = []netip.Prefix{netip.MustParsePrefix("fd00:78::/64")} }, nil)
	if s := got.at("fd00:78::16", "02:00:00:00:00:16"); evidence.First(s.Items, "ftp.greeting") != "220 six" || !s.Whole {
		t.Errorf("seen as %+v; warnings %q", s, got.warnings)
	}
}

// A link goes down in mid-sweep and comes back with another address: nobody is missed.
func TestFieldLinkFlaps(t *testing.T) {
	if !nstest.Inside(t) {
		return
	}
	f := newField(t, "10.78.0.1/24")
	many := f.host("02:00:00:00:00:20")
	for i := 100; i < 160; i++ {
		many.do(fmt.Sprintf("ip addr add 10.78.0.%d/24 dev eth0", i))
	}
	many.greets(":21", "220 many\r\n")
	var once sync.Once
	slow := func(o *sweep.Order) {
		o.Pace = sweep.Pace{Rate: 60, Devices: 24, PerDevice: 4, PerNetwork: 400, Rounds: 1}
		o.Ports = []uint16{21}
		for _, p := range probe.Protocols() { // only the roll call counts here
			if p.Name != "ftp" {
				o.Off = append(o.Off, p.Name)
			}
		}
	}
	got := f.sweeps("eth0", "10.78.0.90-169", slow, func(e sweep.Event) {
		if p, ok := e.(sweep.Progress); ok && p.Found > 5 {
			once.Do(func() {
				f.do("ip link set eth0 down")
				f.do("ip addr del 10.78.0.1/24 dev eth0")
				time.AfterFunc(3*time.Second, func() { // a cable that is out for a while
					_ = exec.Command("sh", "-c", "ip link set eth0 up; ip addr add 10.78.0.77/24 dev eth0").Run()
				})
			})
		}
	})
	if got.summary.Answered != 60 {
		t.Errorf("%d of 60 answered; warnings %q", got.summary.Answered, got.warnings)
	}
	if !got.warned("eth0 is down") || !got.warned("eth0 is back, at 10.78.0.77/24") {
		t.Errorf("warnings %q", got.warnings)
	}
}

// Vantages of other kinds: a VLAN's interface, a bridge, and a tunnel without ARP.
func TestFieldVantages(t *testing.T) {
	if !nstest.Inside(t) {
		return
	}
	f := newField(t)
	check := func(from, addr, mac, banner string) {
		t.Helper()
		s := f.sweeps(from, addr, nil, nil).at(addr, mac)
		if evidence.First(s.Items, "ftp.greeting") != banner || !s.Whole || mac == "" && !s.MAC.IsZero() {
			t.Errorf("from %s: %+v", from, s)
		}
	}
	if err := exec.Command("ip", "link", "add", "link", "eth0", "name", "eth0.20", "type", "vlan", "id", "20").Run(); err != nil {
		t.Logf("this kernel knows no VLANs, so that vantage is left out: %v", err)
	} else {
		host := f.host("02:00:00:00:00:30")
		host.do("ip link add link eth0 name eth0.20 type vlan id 20")
		for _, on := range []func(string){f.do, host.do} {
			on("ip link set eth0.20 up")
		}
		host.do("ip addr add 10.78.0.30/24 dev eth0.20")
		f.do("ip addr add 10.78.0.1/24 dev eth0.20")
		host.greets(":21", "220 tagged\r\n")
		check("eth0.20", "10.78.0.30", "02:00:00:00:00:30", "220 tagged")
		f.do("ip link del eth0.20")
	}
	plain := f.host("02:00:00:00:00:31", "10.78.0.31/24")
	plain.greets("10.78.0.31:21", "220 bridged\r\n")
	f.do("ip addr add 10.78.0.1/24 dev sw0")
	check("sw0", "10.78.0.31", "02:00:00:00:00:31", "220 bridged")
	f.do("ip addr del 10.78.0.1/24 dev sw0")
	f.tunnel(plain)
	plain.greets("10.78.0.130:21", "220 tunnelled\r\n")
	check("tun0", "10.78.0.130", "", "220 tunnelled")
}

// tunnel joins the auditor's tun0 and the machine's, as a tunnel between two sites does: there are no MACs and there is no ARP.
func (f *field) tunnel(m machine) {
	open := func() (*os.File, error) {
		device := &netlink.Tuntap{LinkAttrs: netlink.LinkAttrs{Name: "tun0"}, Mode: netlink.TUNTAP_MODE_TUN, Flags: netlink.TUNTAP_NO_PI | netlink.TUNTAP_ONE_QUEUE, NonPersist: true, Queues: 1}
		if err := netlink.LinkAdd(device); err != nil {
			return nil, err
		}
		f.t.Cleanup(func() { device.Fds[0].Close() })
		return device.Fds[0], nil
	}
	here, err := open()
	if err != nil {
		f.t.Fatal(err)
	}
	var there *os.File
	m.within(func() (err error) {
		there, err = open()
		return err
	})
	pass := func(from, to *os.File) {
		for buf := make([]byte, 2048); ; {
			n, err := from.Read(buf)
			if err == nil {
				_, err = to.Write(buf[:n])
			}
			if err != nil && !errors.Is(err, syscall.EIO) { // EIO: the other end is not up yet
				return
			}
		}
	}
	f.do("ip addr add 10.78.0.129/32 peer 10.78.0.130/32 dev tun0")
	f.do("ip link set tun0 up")
	m.do("ip addr add 10.78.0.130/32 peer 10.78.0.129/32 dev tun0")
	m.do("ip link set tun0 up")
	go pass(here, there)
	go pass(there, here)
}

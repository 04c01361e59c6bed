package hostwire

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/core/netrange"
	"airdrift/core/probe"
	"airdrift/core/secret"
	"airdrift/core/sweep"
	"airdrift/simsite/nstest"
)

// daemon is a real server program of the distribution that is asked who it is.
type daemon struct {
	program string
	files   map[string]string // written beside it before it starts; DIR in a text stands for their folder
	args    []string          // DIR as above
	says    []string          // beginnings of "key=value" texts that have to be learned
	needs   string            // a file without which the program is of no use; "" where it needs none
}

var daemons = []daemon{
	{
		program: "snmpd",
		files: map[string]string{"snmpd.conf": "agentaddress udp:161\nrocommunity wisteria-pergola\nrocommunity public 10.77.0.1 .1.3.6.1.2.1.1\n" +
			"sysName acorn\nsysLocation Palm house\nsysServices 72\ncreateUser heron SHA-256 \"stilts-in-water\" AES \"reeds-and-rushes\"\nrouser heron priv\n"},
		args: []string{"-f", "-Lo", "-C", "-c", "DIR/snmpd.conf", "-p", "DIR/pid", "--persistentDir=DIR"},
		says: []string{"snmp.version=3", "snmp.engine=80001f88", "snmp.engine-enterprise=8072", "snmp.default=public", "snmp.credential=version three",
			"snmp.sysDescr=Linux ", "snmp.sysName=acorn", "snmp.enterprise=8072", `snmp.interface={"index":1,"name":"lo"`, "snmp.mib=host"},
	},
	{
		program: "sshd",
		files:   map[string]string{"sshd_config": "Port 22\nHostKey DIR/key_ed25519\nHostKey DIR/key_rsa\nPidFile none\nUsePAM no\n"},
		args:    []string{"-D", "-e", "-f", "DIR/sshd_config"},
		says:    []string{"ssh.greeting=SSH-2.0-OpenSSH_", "ssh.algorithms=host keys ", "ssh.hostkey=SHA256:"},
	},
	{
		program: "nginx",
		files: map[string]string{"nginx.conf": "daemon off;\nmaster_process off;\npid DIR/nginx.pid;\nerror_log stderr;\nevents {}\nhttp { access_log off; client_body_temp_path DIR/b; proxy_temp_path DIR/p; " +
			"fastcgi_temp_path DIR/f; uwsgi_temp_path DIR/u; scgi_temp_path DIR/s;\nserver { listen 80; location / { root DIR; } }\n" +
			"server { listen 443 ssl; ssl_certificate DIR/cert.pem; ssl_certificate_key DIR/key.pem; location / { auth_basic \"Palm house\"; auth_basic_user_file DIR/none; } } }\n",
			"index.html": "<title>Acorn</title><meta name=generator content=\"Gardenpress 3\"><link rel=icon href=/i.png><p>Welcome to the garden", "i.png": "not much of a picture"},
		args: []string{"-c", "DIR/nginx.conf"},
		says: []string{"http.server=nginx", "http.title=Acorn", "http.generator=Gardenpress 3", "http.icon=", "http.text=Welcome to the garden", "http.realm=Palm house",
			"tls.subject=acorn.example", "tls.organisation=Example Garden", "tls.key="},
	},
	{
		program: "vsftpd",
		files:   map[string]string{"vsftpd.conf": "listen=YES\nanonymous_enable=NO\nlocal_enable=YES\nftpd_banner=Acorn files\nsecure_chroot_dir=DIR\nbackground=NO\nseccomp_sandbox=NO\n"},
		args:    []string{"DIR/vsftpd.conf"},
		says:    []string{"ftp.greeting=220 Acorn files", "ftp.anonymous=refused"},
	},
	{
		program: "mosquitto",
		files:   map[string]string{"mosquitto.conf": "listener 1883\nallow_anonymous false\n"},
		args:    []string{"-c", "DIR/mosquitto.conf"},
		says:    []string{"mqtt.answer=refused: not authorised"},
	},
	{
		program: "avahi-daemon",
		files: map[string]string{"avahi.conf": "[server]\nhost-name=acorn\nuse-ipv6=no\nenable-dbus=no\n[publish]\npublish-hinfo=yes\npublish-workstation=yes\n",
			"services/print.service": `<?xml version="1.0"?><!DOCTYPE service-group SYSTEM "avahi-service.dtd"><service-group><name>Palm house printer</name>` +
				`<service><type>_ipp._tcp</type><port>631</port><txt-record>ty=Inkwell 220</txt-record></service></service-group>`},
		args: []string{"--no-rlimits", "--no-drop-root", "--no-chroot", "-f", "DIR/avahi.conf"},
		says: []string{"mdns.host=acorn.local", "mdns.type=_workstation._tcp"},
	},
	{
		program: "dnsmasq",
		files:   map[string]string{"dnsmasq.conf": "port=53\nno-resolv\nno-hosts\nbind-interfaces\ninterface=veth1\nuser=root\nkeep-in-foreground\npid-file=\nptr-record=2.0.77.10.in-addr.arpa,acorn.garden.example\n"},
		args:    []string{"-C", "DIR/dnsmasq.conf"},
		says:    []string{"dns.ptr=acorn.garden.example", "dns.version=dnsmasq-"},
	},
	{
		program: "lldpd",
		args:    []string{"-d", "-I", "veth1", "-u", "DIR/lldpd.socket"},
		files:   map[string]string{"none": ""},
		says:    []string{"lldp.chassis=", "lldp.name=", "lldp.text=Debian"},
	},
	{
		program: "smbd",
		files: map[string]string{"smb.conf": "[global]\nnetbios name = ACORN\nworkgroup = GARDEN\nserver string = Acorn\nprivate dir = DIR\nlock directory = DIR\nstate directory = DIR\ncache directory = DIR\npid directory = DIR\nncalrpc dir = DIR\nlog file = DIR/log\nlogging = file\nserver signing = mandatory\nload printers = no\ndisable spoolss = yes\n" +
			"map to guest = bad user\n[seeds]\npath = DIR\nguest ok = yes\n[orchids]\npath = DIR\n"},
		args: []string{"-F", "--no-process-group", "-s", "DIR/smb.conf"},
		says: []string{"smb.dialect=3.1.1", "smb.signing=required", "smb.id=", "smb.name=ACORN", "smb.domain=", "smb.anybody=nobody in particular", "smb.share=seeds (disk)", "smb.share=orchids (disk)"},
	},
	{
		program: "nmbd",
		files:   map[string]string{"smb.conf": "[global]\nnetbios name = ACORN\nworkgroup = GARDEN\ninterfaces = veth1\nprivate dir = DIR\nlock directory = DIR\nstate directory = DIR\ncache directory = DIR\npid directory = DIR\nlog file = DIR/log\n"},
		args:    []string{"-F", "--no-process-group", "-s", "DIR/smb.conf"},
		says:    []string{"netbios.name=ACORN", "netbios.group=GARDEN", "netbios.role=file server"},
	},
	{
		program: "cupsd",
		files: map[string]string{"cupsd.conf": "Listen 0.0.0.0:631\nServerAlias *\n<Location />\nOrder allow,deny\nAllow all\n</Location>\n",
			"cups-files.conf": "ServerRoot DIR\nRequestRoot DIR\nCacheDir DIR\nStateDir DIR\nTempDir DIR\nErrorLog stderr\nAccessLog stderr\nPageLog stderr\n"},
		args: []string{"-f", "-c", "DIR/cupsd.conf", "-s", "DIR/cups-files.conf"},
		says: []string{"http.server=CUPS/2.4 IPP/2.1"},
	},
	{
		program: "slapd",
		files:   map[string]string{"slapd.conf": "include /etc/ldap/schema/core.schema\nmodulepath /usr/lib/ldap\nmoduleload back_mdb\ndatabase mdb\nsuffix \"dc=garden,dc=example\"\ndirectory DIR\n"},
		args:    []string{"-d", "stats", "-h", "ldap://0.0.0.0:389", "-f", "DIR/slapd.conf"},
		says:    []string{"ldap.context=dc=garden,dc=example", "ldap.directory=structuralObjectClass OpenLDAProotDSE"},
	},
	{
		program: "chronyd",
		files:   map[string]string{"chrony.conf": "local stratum 3\nallow all\ncmdport 0\npidfile DIR/pid\nuser root\n"},
		args:    []string{"-d", "-x", "-f", "DIR/chrony.conf"},
		says:    []string{"ntp.version=4", "ntp.stratum=3"},
	},
	{
		program: "minidlnad",
		files:   map[string]string{"minidlna.conf": "media_dir=DIR\ndb_dir=DIR\nlog_dir=DIR\nnetwork_interface=veth1\nfriendly_name=Acorn media\nport=8200\nuser=0\n"},
		args:    []string{"-S", "-P", "DIR/pid", "-f", "DIR/minidlna.conf"},
		says:    []string{"upnp.server=Debian DLNADOC/1.50 UPnP/1.0 MiniDLNA/", "upnp.name=Acorn media", "upnp.type=urn:schemas-upnp-org:device:MediaServer:1"},
	},
	{
		program: "kamailio",
		files:   map[string]string{"kamailio.cfg": "#!KAMAILIO\ndebug=1\nlog_stderror=yes\nfork=no\nchildren=1\nlisten=udp:10.77.0.2:5060\nloadmodule \"sl.so\"\nrequest_route { sl_send_reply(\"200\", \"OK\"); }\n"},
		args:    []string{"-f", "DIR/kamailio.cfg", "-DD", "-E", "-Y", "DIR"},
		says:    []string{"sip.status=200 OK", "sip.server=kamailio ("},
	},
}

// others are further servers, which want the ports of those above.
var others = []daemon{
	{
		program: "wsdd",
		args:    []string{"-n", "acorn", "-w", "GARDEN", "-i", "veth1"},
		files:   map[string]string{"none": ""},
		says:    []string{"wsd.type=wsdp:Device", "wsd.computer=ACORN", "wsd.program=wsdd"},
	},
	{
		program: "miniupnpd",
		files: map[string]string{"gate.conf": "ext_ifname=lo\next_ip=8.8.8.8\nlistening_ip=veth1\nport=49000\nenable_upnp=yes\nuuid=12345678-1234-1234-1234-123456789012\nserial=AC-12\n" +
			"model_name=Gate 7\nmanufacturer_name=Acme\nfriendly_name=Acorn gate\n"},
		args: []string{"-d", "-f", "DIR/gate.conf"},
		says: []string{"upnp.target=urn:schemas-upnp-org:device:InternetGatewayDevice:", "upnp.maker=Acme", "upnp.model=Gate 7", "upnp.serial=AC-12"},
	},
	{
		program: "gmediarender", // which answers searches from another port
		args:    []string{"-f", "Acorn speaker", "-I", "veth1", "--gstout-audiosink=fakesink"},
		files:   map[string]string{"none": ""},
		says:    []string{"upnp.server=Linux/", "upnp.type=urn:schemas-upnp-org:device:MediaRenderer:1", "upnp.name=Acorn speaker"},
	},
	{
		program: "xrdp",
		args:    []string{"-n", "-p", "3389"},
		files:   map[string]string{"none": ""},
		says:    []string{"rdp.security=TLS", "tls.subject="},
	},
	{
		program: "Xtigervnc",
		args:    []string{":7", "-rfbport", "5900", "-SecurityTypes", "None,VncAuth", "-localhost=0"},
		files:   map[string]string{"none": ""},
		says:    []string{"vnc.version=RFB 003.008", "vnc.security=none, password"},
	},
	{
		program: "dropbear",
		args:    []string{"-F", "-E", "-r", "DIR/key_dropbear", "-p", "22", "-P", "DIR/pid"},
		files:   map[string]string{"none": ""},
		says:    []string{"ssh.greeting=SSH-2.0-dropbear_", "ssh.hostkey=SHA256:"},
	},
	{
		program: "lighttpd",
		files:   map[string]string{"web.conf": "server.document-root = \"DIR\"\nserver.port = 80\nindex-file.names = (\"index.html\")\n", "index.html": "<title>Acorn</title>"},
		args:    []string{"-D", "-f", "DIR/web.conf"},
		says:    []string{"http.server=lighttpd/", "http.title=Acorn"},
	},
	{
		program: "proftpd",
		files:   map[string]string{"files.conf": "ServerName \"Acorn\"\nServerType standalone\nPort 21\nUser root\nGroup root\nScoreboardFile DIR/board\nPidFile DIR/pid\nDelayEngine off\n"},
		args:    []string{"-n", "-c", "DIR/files.conf"},
		says:    []string{"ftp.greeting=220 ProFTPD Server (Acorn)", "ftp.system=UNIX"},
	},
	{
		program: "systemd-resolved", // the name of the machine itself
		args:    nil,
		files:   map[string]string{"none": ""},
		says:    []string{"llmnr.name="},
	},
	{
		program: "kamailio",
		files:   map[string]string{"kamailio.cfg": "#!KAMAILIO\ndebug=1\nlog_stderror=yes\nfork=no\nchildren=1\nlisten=tcp:10.77.0.2:5060\nloadmodule \"sl.so\"\nrequest_route { sl_send_reply(\"200\", \"OK\"); }\n"},
		args:    []string{"-f", "DIR/kamailio.cfg", "-DD", "-E", "-Y", "DIR"},
		says:    []string{"sip.status=200 OK", "sip.server=kamailio ("},
	},
}

// plant are servers of what buildings are made of.
var plant = []daemon{
	{
		program: "knxd",
		args:    []string{"-e", "1.1.250", "-E", "1.1.1:8", "-n", "acorn", "-D", "-T", "-R", "-S", "-i", "-b", "dummy:"},
		files:   map[string]string{"none": ""},
		says:    []string{"knx.name=acorn", "knx.address=1.1.250", "knx.service=tunnelling"},
	},
	{
		program: "coap-server-notls",
		args:    []string{"-A", "10.77.0.2", "-p", "5683"},
		files:   map[string]string{"none": ""},
		says:    []string{"coap.answer=2.05", "coap.resource=/time", "coap.title=General Info"},
	},
	{
		program: "mosquitto", // that lets anybody in
		files:   map[string]string{"open.conf": "listener 1883\nallow_anonymous true\n"},
		args:    []string{"-c", "DIR/open.conf"},
		says:    []string{"mqtt.answer=accepted without a name", "mqtt.version=mosquitto version 2"},
	},
	{
		program: "ipmi_sim",
		files: map[string]string{
			"lan.conf": "name \"acorn\"\nset_working_mc 0x20\nstartlan 1\naddr 0.0.0.0 623\npriv_limit admin\nallowed_auths_admin md5 straight\nguid a123456789abcdefa123456789abcdef\nendlan\n" +
				"user 2 true \"heron\" \"stilts\" admin 10 md5 straight\n",
			"bmc.emu": "mc_setbmc 0x20\nmc_add 0x20 0 no-device-sdrs 0x23 9 8 0x9f 0x1291 0xf02 persist_sdr\nmc_enable 0x20\n",
		},
		args: []string{"-n", "-c", "DIR/lan.conf", "-f", "DIR/bmc.emu", "-s", "DIR"},
		says: []string{"ipmi.version=2.0", "ipmi.sign-in=MD5, password"},
	},
	{
		program: "/usr/bin/python3", // with a server of Modbus for several units
		needs:   "/usr/lib/python3/dist-packages/pymodbus",
		files: map[string]string{"units.py": "from pymodbus.server import StartTcpServer\nfrom pymodbus.device import ModbusDeviceIdentification\n" +
			"from pymodbus.datastore import ModbusSlaveContext, ModbusServerContext\n" +
			"who = ModbusDeviceIdentification(info_name={'VendorName': 'Acorn Metering', 'ProductCode': 'A3', 'MajorMinorRevision': '2.11', 'ModelName': 'Acorn 3'})\n" +
			"StartTcpServer(context=ModbusServerContext(slaves={1: ModbusSlaveContext(), 2: ModbusSlaveContext()}, single=False), identity=who, address=('10.77.0.2', 502))\n"},
		args: []string{"DIR/units.py"},
		says: []string{"modbus.maker=Acorn Metering", "modbus.model=Acorn 3", "modbus.revision=2.11", "modbus.units=behind"},
	},
	ofNode("node-bacnet", "bacnet.js", "bacnet.instance=5001", "bacnet.name=acorn climate", "bacnet.maker=Acorn Controls", "bacnet.model=Acorn 9", "bacnet.firmware=1.4",
		"bacnet.objects=analog input: 6", "bacnet.points=12"),
	ofNode("node-opcua-server", "opcua.js", "opcua.type=server", "opcua.security=none", "opcua.identity=anybody", "opcua.root=object: "),
	ofNode("dmxnet", "artnet.js", "artnet.name=acorn", "artnet.text=acorn stage", "artnet.style=controller"),
}

// programs is where packages of Node.js lie, with the scripts that start them.
const programs = "testdata/programs"

// ofNode is a server that a package of Node.js gives.
func ofNode(name, script string, says ...string) daemon {
	path, err := filepath.Abs(filepath.Join(programs, script))
	if err != nil {
		panic(err)
	}
	return daemon{program: "node", needs: filepath.Join(programs, "node_modules", name), files: map[string]string{"none": ""}, args: []string{path, "10.77.0.2", "DIR"}, says: says}
}

// TestRealDaemons sweeps a machine that runs real servers, in a namespace of its own, and holds what is learned against how they
// were set up. Those that are not installed are left out.
func TestRealDaemons(t *testing.T) { learnOf(t, daemons) }

// TestMoreRealDaemons is the same with others.
func TestMoreRealDaemons(t *testing.T) { learnOf(t, others) }

// TestRealPlant is the same with servers of what buildings are made of.
func TestRealPlant(t *testing.T) { learnOf(t, plant) }

func learnOf(t *testing.T, servers []daemon) {
	if !nstest.Inside(t) {
		return
	}
	lab := newLab(t)
	var wanted []string
	for _, d := range servers {
		if _, err := os.Stat(cmp.Or(d.needs, "/")); err != nil {
			if isPromised(d.program) {
				t.Errorf("what %s was installed to be tried with is not found: %v", d.program, err)
			}
			continue
		}
		if path := installed(t, d.program); path != "" {
			lab.start(t, path, d)
			wanted = append(wanted, d.says...)
		}
	}
	if len(wanted) == 0 {
		t.Skip("none of the servers is installed: make servers installs them")
	}
	var missing []string
	var items []evidence.Item
	// Daemons take their time to start, and there is no other sign of their being ready than that they answer.
	for end := time.Now().Add(90 * time.Second); time.Now().Before(end); {
		items = evidence.Merge(items, lab.sweep(t), evidence.Asked)
		missing = slices.DeleteFunc(slices.Clone(wanted), func(w string) bool {
			return slices.ContainsFunc(items, func(it evidence.Item) bool { return strings.HasPrefix(it.Key+"="+it.Value, w) })
		})
		if len(missing) == 0 {
			break
		}
	}
	for _, m := range missing {
		t.Errorf("nothing like %q was learned", m)
	}
	if os.Getenv("AIRDRIFT_TELL") != "" || t.Failed() {
		for _, item := range items {
			t.Logf("%s %s=%s", item.Port, item.Key, item.Value)
		}
		for _, claim := range identify.New(identify.Default(), nil).Identify(items) {
			t.Logf("claim %s=%s (%d)", claim.Attribute, claim.Value, claim.Strength)
		}
	}
	for _, item := range items {
		for _, hidden := range []string{"stilts-in-water", "reeds-and-rushes", "wisteria-pergola", "weeds"} {
			if strings.Contains(item.Value, hidden) {
				t.Errorf("a secret is told: %s=%s", item.Key, item.Value)
			}
		}
	}
}

// programPath finds a server where distributions have them; "" where it is not installed.
func programPath(program string) string {
	for _, dir := range []string{"", "/usr/sbin/", "/lib/systemd/"} {
		if path, err := exec.LookPath(dir + program); err == nil {
			return path
		}
	}
	return ""
}

// Where CI says which servers it has installed, none of them may be left out, and it is told which were tried.
const (
	installedVar = "AIRDRIFT_SERVERS" // programs, separated by spaces
	triedVar     = "AIRDRIFT_TRIED"   // a file to write them to
)

// isPromised reports whether CI says that it has installed a server.
func isPromised(program string) bool {
	return slices.Contains(strings.Fields(os.Getenv(installedVar)), program)
}

// installed gives the path of a server that is there, and notes that it is tried.
func installed(t *testing.T, program string) string {
	t.Helper()
	path := programPath(program)
	if path == "" && isPromised(program) {
		t.Errorf("%s was installed to be tried, and is not found", program)
	}
	if name := os.Getenv(triedVar); name != "" && path != "" {
		file, err := os.OpenFile(name, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			t.Fatal(err)
		}
		defer file.Close()
		fmt.Fprintln(file, program)
	}
	return path
}

// TestEveryWayIntoAnAgent asks a real agent with a user for each pair of protocols, and with ones that must not be let in.
func TestEveryWayIntoAnAgent(t *testing.T) {
	path := installed(t, "snmpd")
	if path == "" {
		t.Skip("snmpd is not installed: make servers installs it")
	}
	if !nstest.Inside(t) {
		return
	}
	const authKey, privKey = "stilts-in-water", "reeds-and-rushes"
	config := "agentaddress udp:161\nsysName acorn\ncreateUser plain\nrouser plain noauth\n"
	credentials := []probe.Credential{{ID: 1, Name: "no keys", Version: probe.SNMPv3, User: "plain"}}
	for _, auth := range probe.AuthProtocols {
		user := "a" + strings.ReplaceAll(auth, "-", "")
		config += fmt.Sprintf("createUser %s %s %s\nrouser %[1]s auth\n", user, auth, authKey)
		signed := probe.Credential{ID: 1, Name: auth, Version: probe.SNMPv3, User: user, Auth: auth, AuthKey: secret.New(authKey)}
		credentials = append(credentials, signed)
		for _, priv := range []string{"DES", "AES"} { // what the agent of this distribution knows
			hidden := signed
			hidden.Name, hidden.User, hidden.Priv, hidden.PrivKey = auth+" "+priv, user+priv, priv, secret.New(privKey)
			config += fmt.Sprintf("createUser %s %s %s %s %s\nrouser %[1]s priv\n", hidden.User, auth, authKey, priv, privKey)
			credentials = append(credentials, hidden)
		}
	}
	lab := newLab(t)
	lab.start(t, path, daemon{program: "snmpd", files: map[string]string{"snmpd.conf": config},
		args: []string{"-f", "-Lo", "-C", "-c", "DIR/snmpd.conf", "-p", "DIR/pid", "--persistentDir=DIR"}})
	w, err := New("veth0")
	if err != nil {
		t.Fatal(err)
	}
	ask := func(c probe.Credential) string {
		items, _ := probe.SNMPWith(t.Context(), probe.Over(w), netip.MustParseAddr("10.77.0.2"), time.Second, c)
		return evidence.First(items, evidence.KeySNMPName)
	}
	for end := time.Now().Add(30 * time.Second); ask(credentials[0]) == "" && time.Now().Before(end); { // the agent takes its time to start
	}
	for _, c := range credentials {
		if got := ask(c); got != "acorn" {
			t.Errorf("%s: the agent told %q", c.Name, got)
		}
	}
	wrong := credentials[len(credentials)-1]
	wrong.PrivKey = secret.New("another-key-altogether")
	stranger := credentials[1]
	stranger.User = "nobody"
	for _, c := range []probe.Credential{wrong, stranger} {
		if got := ask(c); got != "" {
			t.Errorf("%s with a wrong key or user was told %q", c.Name, got)
		}
	}
}

// lab is two namespaces joined by a cable: the auditor's, which is the test's own, and that of the machine with the servers.
type lab struct {
	dir    string
	holder int // a process that keeps the other namespace
}

func newLab(t *testing.T) *lab {
	l := &lab{dir: t.TempDir()}
	holder := exec.Command("sleep", "infinity")
	holder.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET | syscall.CLONE_NEWNS, Pdeathsig: syscall.SIGKILL}
	l.launch(t, holder)
	l.holder = holder.Process.Pid
	l.run(t, "ip", "link", "add", "veth0", "type", "veth", "peer", "name", "veth1", "netns", strconv.Itoa(l.holder))
	l.run(t, "ip", "addr", "add", "10.77.0.1/24", "dev", "veth0")
	l.run(t, "ip", "link", "set", "veth0", "up")
	// The servers have a /run of their own, so that they meet neither those of this machine nor what earlier ones left.
	l.run(t, "nsenter", l.inside("sh", "-ec", "ip addr add 10.77.0.2/24 dev veth1; ip link set veth1 up; ip link set lo up; ip route add 224.0.0.0/4 dev veth1; "+
		"mount --make-rprivate /; mount -t tmpfs tmpfs /run; mkdir -p /run/dbus /run/systemd/resolve /run/sshd /run/lldpd /run/avahi-daemon /run/samba /run/lock/p910nd")...)
	return l
}

// inside gives the arguments by which nsenter runs a program in the other namespace.
func (l *lab) inside(program ...string) []string {
	return append([]string{"-t", strconv.Itoa(l.holder), "-m", "-n"}, program...)
}

func (l *lab) run(t *testing.T, name string, args ...string) {
	t.Helper()
	if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		t.Fatalf("%s %v: %v\n%s", name, args, err, out)
	}
}

// launch starts a program that ends with the test.
func (l *lab) launch(t *testing.T, cmd *exec.Cmd) {
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	cmd.WaitDelay = time.Second // what a server leaves behind may keep its output open
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill() // it may have ended by itself, which its facts' absence tells
		_ = cmd.Wait()
		if t.Failed() && cmd.Args[0] != "sleep" {
			t.Logf("%v said:\n%s", cmd.Args, out.String()[:min(out.Len(), 2000)])
		}
	})
}

// start puts a server into the other namespace.
func (l *lab) start(t *testing.T, path string, d daemon) {
	dir := filepath.Join(l.dir, filepath.Base(d.program))
	here := func(text string) string { return strings.ReplaceAll(text, "DIR", dir) }
	for name, text := range d.files {
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(here(text)), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	switch d.program {
	case "sshd":
		for _, kind := range []string{"ed25519", "rsa"} {
			l.run(t, "ssh-keygen", "-q", "-t", kind, "-N", "", "-f", filepath.Join(dir, "key_"+kind))
		}
	case "dropbear":
		l.run(t, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "key"))
		l.run(t, "dropbearconvert", "openssh", "dropbear", filepath.Join(dir, "key"), filepath.Join(dir, "key_dropbear"))
	case "systemd-resolved":
		l.run(t, "nsenter", l.inside("chown", "systemd-resolve:systemd-resolve", "/run/systemd/resolve")...)
	case "nginx":
		l.run(t, "openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/O=Example Garden/CN=acorn.example",
			"-keyout", filepath.Join(dir, "key.pem"), "-out", filepath.Join(dir, "cert.pem"))
	}
	// The last folder holds programs that read what others may: the tests' folder must be open to their users.
	for parent := dir; parent != os.TempDir() && parent != "/"; parent = filepath.Dir(parent) {
		if err := os.Chmod(parent, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	args := l.inside(path)
	for _, a := range d.args {
		args = append(args, here(a))
	}
	cmd := exec.Command("nsenter", args...)
	cmd.Dir = dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	l.launch(t, cmd)
}

// sweep looks at the machine and gives all that was learned of it.
func (l *lab) sweep(t *testing.T) []evidence.Item {
	t.Helper()
	w, err := New("veth0")
	if err != nil {
		t.Fatal(err)
	}
	ranges, err := netrange.Parse("10.77.0.0/24")
	if err != nil {
		t.Fatal(err)
	}
	order := sweep.Order{
		Ranges: ranges, Fence: []netip.Prefix{netip.MustParsePrefix("10.77.0.0/24")}, Pace: sweep.Brisk, Ports: append([]uint16{8200}, probe.TellingPorts()...), Seed: 1, Read: true,
		NameServers: []netip.Addr{netip.MustParseAddr("10.77.0.2")},
		Credentials: []probe.Credential{
			{ID: 1, Name: "wrong", Version: probe.SNMPv2c, Community: secret.New("weeds")},
			{ID: 2, Name: "version three", Version: probe.SNMPv3, User: "heron", Auth: "SHA-256", AuthKey: secret.New("stilts-in-water"), Priv: "AES", PrivKey: secret.New("reeds-and-rushes")},
		},
	}
	var items []evidence.Item
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	_, err = sweep.Run(ctx, w, order, func(e sweep.Event) {
		switch e := e.(type) {
		case sweep.Sighted:
			if e.Sighting.Addr == netip.MustParseAddr("10.77.0.2") {
				items = evidence.Merge(items, e.Sighting.Items, evidence.Asked)
			}
		case sweep.Warning:
			t.Log(fmt.Sprint("warning: ", e.Text))
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	return items
}

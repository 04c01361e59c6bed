package hostwire

import (
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/simsite/nstest"
)

// alone are servers that run by themselves, so that what is told of each is its own doing: is holds the kind, the system and the maker, in this order, each "" or
// unknown where a program that runs on anything tells nothing.
var alone = []struct {
	daemon
	is [3]string
}{
	{daemon{program: "apache2", files: map[string]string{"web.conf": "ServerName acorn\nServerRoot DIR\nPidFile DIR/pid\nErrorLog DIR/log\nMutex pthread\nListen 80\nDocumentRoot DIR\n" +
		"LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so\nLoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so\n" +
		"LoadModule dir_module /usr/lib/apache2/modules/mod_dir.so\nDirectoryIndex index.html\n<Directory DIR>\nRequire all granted\n</Directory>\n",
		"index.html": "<title>Acorn</title>"},
		args: []string{"-X", "-f", "DIR/web.conf"}, says: []string{"http.server=Apache/2.4", "http.title=Acorn"}}, [3]string{identify.Unknown, "Debian GNU/Linux", ""}},
	{daemon{program: "lighttpd", files: map[string]string{"web.conf": "server.document-root = \"DIR\"\nserver.port = 80\nindex-file.names = (\"index.html\")\n", "index.html": "<title>Camera shop</title>"},
		args: []string{"-D", "-f", "DIR/web.conf"}, says: []string{"http.server=lighttpd/", "http.title=Camera shop"}}, [3]string{identify.Unknown, "", ""}},
	{daemon{program: "mini_httpd", files: map[string]string{"index.html": "<title>Login</title>"},
		args: []string{"-D", "-p", "80", "-d", "DIR", "-u", "root", "-i", "DIR/pid"}, says: []string{"http.server=mini_httpd/", "http.title=Login"}}, [3]string{identify.Unknown, "", ""}},
	{daemon{program: "webfsd", files: map[string]string{"index.html": "<title>Switch to HTTPS</title>"},
		args: []string{"-F", "-p", "80", "-r", "DIR", "-f", "index.html"}, says: []string{"http.server=webfs/", "http.title=Switch to HTTPS"}}, [3]string{identify.Unknown, "", ""}},
	{daemon{program: "busybox", files: map[string]string{"index.html": "<title>Index of /</title>"},
		args: []string{"httpd", "-f", "-p", "80", "-h", "DIR"}, says: []string{"http.title=Index of /"}}, [3]string{identify.Unknown, "", ""}},
	{daemon{program: "haproxy", files: map[string]string{"proxy.cfg": "defaults\nmode http\ntimeout connect 5s\ntimeout client 5s\ntimeout server 5s\nfrontend acorn\nbind 10.77.0.2:80\n"},
		args: []string{"-db", "-f", "DIR/proxy.cfg"}, says: []string{"http.status=503"}}, [3]string{identify.Unknown, "", ""}},
	{daemon{program: "pure-ftpd", files: map[string]string{"none": ""},
		args: []string{"-S", "10.77.0.2,21", "-H", "-E"}, says: []string{"ftp.greeting=220---------- Welcome to Pure-FTPd"}}, [3]string{identify.Unknown, "", ""}},
	{daemon{program: "chronyd", files: map[string]string{"chrony.conf": "local stratum 3\nallow all\ncmdport 0\npidfile DIR/pid\nuser root\n"},
		args: []string{"-d", "-x", "-f", "DIR/chrony.conf"}, says: []string{"ntp.version=4", "ntp.stratum=3"}}, [3]string{identify.Unknown, "", ""}},
	{daemon{program: "minidlnad", files: map[string]string{"minidlna.conf": "media_dir=DIR\ndb_dir=DIR\nlog_dir=DIR\nnetwork_interface=veth1\nfriendly_name=Behind the Samsung TV\nport=8200\nuser=0\n"},
		args: []string{"-S", "-P", "DIR/pid", "-f", "DIR/minidlna.conf"}, says: []string{"upnp.type=urn:schemas-upnp-org:device:MediaServer:1", "upnp.name=Behind the Samsung TV"}}, [3]string{identify.Unknown, "Debian GNU/Linux", ""}},
	{daemon{program: "ustreamer", files: map[string]string{"none": ""},
		args: []string{"--host=10.77.0.2", "--port=80", "--device=/dev/null"}, says: []string{"http.status=200"}}, [3]string{identify.Unknown, "", ""}},
	{daemon{program: "p910nd", files: map[string]string{"none": ""}, // a queue without a printer says nothing but that its port is open
		args: []string{"-d", "-f", "/dev/null", "0"}, says: []string{"tcp.open=9100"}}, [3]string{identify.Unknown, "", ""}},
	{daemon{program: "baresip", files: map[string]string{"config": "sip_listen 10.77.0.2:5060\nmodule_path /usr/lib/baresip/modules\nmodule account.so\n", "accounts": "<sip:palm@10.77.0.2>;regint=0\n", "contacts": ""},
		args: []string{"-f", "DIR"}, says: []string{"sip.status="}}, [3]string{identify.Unknown, "", ""}},
}

// TestRealProgramsAlone holds what is told of each program by itself: one that runs on anything tells no kind and no maker, whatever the pages say that it serves.
func TestRealProgramsAlone(t *testing.T) {
	if !nstest.Inside(t) {
		return
	}
	engine := identify.New(identify.Default(), nil)
	tried := 0
	for _, d := range alone {
		path := installed(t, d.program)
		if path == "" {
			continue
		}
		tried++
		t.Run(d.program, func(t *testing.T) {
			_ = exec.Command("ip", "link", "del", "veth0").Run() // that of the one before goes by itself, and not at once
			lab := newLab(t)
			lab.start(t, path, d.daemon)
			var items []evidence.Item
			missing := d.says
			for end := time.Now().Add(60 * time.Second); len(missing) > 0 && time.Now().Before(end); {
				items = evidence.Merge(items, lab.sweep(t), evidence.Asked)
				missing = slices.DeleteFunc(slices.Clone(d.says), func(w string) bool {
					return slices.ContainsFunc(items, func(it evidence.Item) bool { return strings.HasPrefix(it.Key+"="+it.Value, w) })
				})
			}
			for _, m := range missing {
				t.Errorf("nothing like %q was learned", m)
			}
			id := engine.Identify(items)
			for i, attribute := range []identify.Attribute{identify.Kind, identify.OS, identify.Vendor} {
				if got := id.Of(attribute); got != d.is[i] {
					t.Errorf("%s is told to be %q, want %q", attribute, got, d.is[i])
				}
			}
			if os.Getenv("AIRDRIFT_TELL") != "" || t.Failed() {
				for _, item := range items {
					t.Logf("%s %s=%s", item.Port, item.Key, item.Value)
				}
				for _, claim := range id {
					for _, c := range claim.Others {
						t.Logf("%s %s %d", claim.Attribute, c.Value, c.Strength)
					}
				}
			}
		})
	}
	if tried == 0 {
		t.Skip("none of the servers is installed: make servers installs them")
	}
}

package console_test

import (
	"context"
	"encoding/base64"
	"flag"
	"fmt"
	"html"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"airdrift/api"
	"airdrift/client"
	"airdrift/console"
	"airdrift/service/servicetest"
)

// shots is where pictures of the pages are written; none are where it is empty. make screenshots sets it.
var shots = flag.String("shots", "", "directory to write pictures of the pages to")

const stepWait = 30 * time.Second

// house is a running service on the demo building, with a browser before its console.
type house struct {
	*servicetest.Service
	t       *testing.T
	browser context.Context
}

func open(t *testing.T) *house {
	t.Helper()
	files := console.Files()
	if files == nil {
		t.Fatal("the console is not built: run make build")
	}
	demo := servicetest.Demo(t, servicetest.Config{Console: files})
	h := &house{t: t, Service: demo}
	h.openBrowser()
	return h
}

// openBrowser starts Chromium with nothing that would speak to anybody but the console.
func (h *house) openBrowser() {
	h.t.Helper()
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("no-first-run", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.UserDataDir(h.t.TempDir()))
	allocator, stop := chromedp.NewExecAllocator(context.Background(), options...)
	h.t.Cleanup(stop)
	browser, closeBrowser := chromedp.NewContext(allocator)
	h.browser = browser
	if err := chromedp.Do(browser, chromedp.EmulateViewport(1280, 800)); err != nil {
		h.t.Fatal("start Chromium (package chromium): ", err)
	}
	messages := chromedp.Console(browser)
	h.t.Cleanup(func() {
		closeBrowser()
		for m, err := range messages {
			// Answers that are refused are part of these tests; the browser notes each.
			if err == nil && (m.IsException() || m.Type == "error") && m.Source != "network" {
				h.t.Errorf("the browser complains: %s", m)
			}
		}
	})
}

// action is one step in the browser.
type action = chromedp.Action[chromedp.Void]

// until waits for a JavaScript condition.
func until(condition string) action {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Poll[bool]("Boolean("+condition+")", chromedp.WithPollingTimeout(stepWait))(ctx, t)
		return chromedp.Void{}, err
	}
}

// do carries out browser actions within a time limit.
func (h *house) do(what string, actions ...action) {
	h.t.Helper()
	ctx, cancel := context.WithTimeout(h.browser, stepWait)
	defer cancel()
	if err := chromedp.Do(ctx, actions...); err != nil {
		page, _ := chromedp.Run(h.browser, chromedp.Text(chromedp.CSS("body")))
		h.t.Fatalf("%s: %v\nthe page shows:\n%s", what, err, page)
	}
}

// has waits until the page shows a text.
func has(text string) action {
	return until(fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

// button finds a button or link by what is written on it.
func button(text string) string {
	return fmt.Sprintf(`//*[(self::button or self::a or self::label) and normalize-space(.)=%q]`, text)
}

func click(text string) action { return chromedp.Click(button(text)) }

// field finds a text field by its label.
func field(label string) string {
	return fmt.Sprintf(`//*[(self::input or self::textarea) and @id=//label[starts-with(normalize-space(.),%q)]/@for][not(@aria-hidden)]`, label)
}

// fill writes into a field in place of what is there.
func fill(label, text string) action {
	return chromedp.Steps(
		chromedp.Click(field(label)),
		chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)),
		chromedp.KeyEvent("\b"),
		chromedp.SendKeys(field(label), text),
	)
}

// shot writes a picture of the page, light and dark, where pictures are wanted.
func (h *house) shot(name string) {
	h.t.Helper()
	if *shots == "" {
		return
	}
	for _, scheme := range []string{"light", "dark"} {
		h.do("picture "+name, prefer(scheme), until(fmt.Sprintf("document.documentElement.hasAttribute('data-%s')", scheme)),
			until("document.getAnimations().every(a => a.playState !== 'running' || a.effect.getTiming().iterations === Infinity)"))
		h.capture(name + "-" + scheme)
	}
	h.do("light again", prefer("light"))
}

// capture writes a picture of what the window shows.
func (h *house) capture(name string) {
	h.t.Helper()
	png, err := chromedp.Run(h.browser, chromedp.CaptureScreenshot())
	if err != nil {
		h.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(*shots, name+".png"), png, 0o644); err != nil {
		h.t.Fatal(err)
	}
}

// prefer makes the browser prefer light or dark colours.
func prefer(scheme string) action {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}},
		})
		return chromedp.Void{}, err
	}
}

func (h *house) path(rest string) string {
	return fmt.Sprintf("%s/sites/%d%s", h.URL, h.Site.ID, rest)
}

func location(want string) action {
	return until(fmt.Sprintf("(location.pathname + location.search) === %q", want))
}

// TestConsole is one auditor's visit, from the sign-in to the register.
func TestConsole(t *testing.T) {
	h := open(t)
	h.signIn()
	h.sweepWithFaults()
	h.watchSweep()
	h.importRegister()
	h.overview()
	h.devices()
	h.device()
	h.signOut()
}

func (h *house) signIn() {
	h.do("a page without a session", chromedp.Navigate(h.path("/devices?standing=unmanaged")), has("Sign in"))
	h.shot("sign-in")
	h.do("a wrong password", fill("Password", "not the password"), click("Sign in"), has("the password is not right"))
	h.do("the right one", fill("Password", h.Password), click("Sign in"), has("No device is like this"),
		location(fmt.Sprintf("/sites/%d/devices?standing=unmanaged", h.Site.ID)))
	h.do("an empty site", click("Overview"), has("Nothing is known yet"))
}

func (h *house) sweepWithFaults() {
	h.do("a range that is malformed", click("Start a sweep"), has("Leave out"), fill("Ranges", "10.40.1.0/24, 10.40.300.9"), click("Start"), has(`"10.40.300.9" is not an address`))
	h.shot("start-sweep")
	h.do("a range outside", fill("Ranges", "10.41.0.0/24"), click("Start"), has("10.41.0.0 lies outside the networks this site may be swept in"))
	if sweeps, err := h.Client.Sweeps(h.t.Context(), h.Site.ID); err != nil || len(sweeps) != 0 {
		h.t.Errorf("after two refused sweeps there are %v, %v", sweeps, err)
	}
}

func (h *house) watchSweep() {
	h.do("a sweep that runs", fill("Ranges", "10.40.1.0/24, 10.40.2.0/24"), click("Start"), has("Stop, and keep what was seen"), has("questions a second"), has("10.40.1.2"))
	h.shot("sweep-running")
	h.do("stopping it", click("Stop, and keep what was seen"), has("stopped"), has("Against the sweep before"))
	sweep, err := h.Client.StartSweep(h.t.Context(), h.Site.ID, api.NewSweep{Pace: "brisk"})
	if err != nil {
		h.t.Fatal(err)
	}
	h.do("a whole sweep", chromedp.Navigate(h.path(fmt.Sprintf("/sweeps/%d", sweep.ID))), has("60 of 508 addresses answered"), has("Weave 24 managed switch"))
	h.shot("sweep-done")
	h.do("the list of sweeps", click("Sweeps"), has("stopped"), has("60 of 508"))
	h.shot("sweeps")
}

func (h *house) importRegister() {
	faulty := filepath.Join(h.t.TempDir(), "faulty.csv")
	if err := os.WriteFile(faulty, []byte("name,mac\nvault door,54:be:2c:03:30\n<b>bold</b>,zz\n"), 0o600); err != nil {
		h.t.Fatal(err)
	}
	h.do("a faulty register", click("Register"), has("The register is empty"), chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{faulty}),
		has("nothing was imported: the file has 2 faults"), has("line 3, column 2 (mac)"))
	h.shot("register-faults")
	good, err := filepath.Abs("../scenarios/fernhollow-register.csv")
	if err != nil {
		h.t.Fatal(err)
	}
	h.do("the register", chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{good}), has("39 devices added"), has("24 unmanaged"), has("seed label printer"))
	h.shot("register")
}

func (h *house) overview() {
	h.do("the overview", click("Overview"), has("nobody manages"), has("in the register, missing"), has("2 devices at an address that another device holds too"))
	h.shot("overview")
}

func (h *house) devices() {
	h.do("what nobody manages", chromedp.Navigate(h.path("/devices?standing=unmanaged")), has("10.40.1.24"), has("1–24 of 24"))
	h.shot("devices")
	h.do("a search", fill("Search", "label"), has("1–1 of 1"), location(fmt.Sprintf("/sites/%d/devices?standing=unmanaged&text=label", h.Site.ID)))
	h.do("a kind", chromedp.Navigate(h.path("/devices?kind=camera&sort=address&descend=true")), has("1–4 of 4"), has("gate camera"), has("palm house camera"))
}

func (h *house) device() {
	h.do("one device", chromedp.Navigate(h.path("/devices?text=10.40.1.66")), has("1–2 of 2"), has("cafe till"))
	h.do("its page", chromedp.Click(`(//div[@role="row"]//a[contains(.,"10.40.1.66")])[1]`), has("Another device answers at 10.40.1.66 too"),
		has("The site's own list gives the prefix"))
	h.do("a device with much to say", chromedp.Navigate(h.path("/devices?text=cairn")), has("1–2 of 2"), chromedp.Click(`//a[contains(.,"10.40.1.11")]`), has("Matched by"), has("Quenby Storage"))
	h.shot("device")
	h.do("a device that is not there", chromedp.Navigate(h.path("/devices/99999")), has("device 99999: not found"))
}

func (h *house) signOut() {
	h.do("signing out", chromedp.Click(chromedp.CSS(`button[aria-label="Sign out"]`)), has("The first password is in the file"))
	h.do("a page afterwards", chromedp.Navigate(h.path("/devices")), has("Sign in"))
}

// TestPictures draws what commands print, where pictures are wanted.
func TestPictures(t *testing.T) {
	if *shots == "" {
		t.Skip("no pictures are wanted: see make screenshots")
	}
	h := open(t)
	run := func(args ...string) string {
		out, err := exec.Command("go", append([]string{"run", "airdrift/cmd/airdrift"}, args...)...).Output()
		if err != nil {
			t.Fatalf("%v: %v", args, err)
		}
		return string(out)
	}
	sweep, err := h.Client.StartSweep(t.Context(), h.Site.ID, api.NewSweep{Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.Client.Watch(t.Context(), sweep.ID, client.Watcher{}); err != nil {
		t.Fatal(err)
	}
	h.drawText("demo-once", "$ airdrift demo --once\n"+run("demo", "--once"))
	h.drawText("device-command", "$ airdrift device 10.40.1.1\n"+run("--data", h.Data, "device", "10.40.1.1"))
}

// drawText draws a terminal's text.
func (h *house) drawText(name, text string) {
	page := `<body style="margin:0;background:#171c1a;color:#dfe7e2"><pre style="font:12.5px/1.45 'DejaVu Sans Mono',monospace;padding:14px;margin:0">` +
		html.EscapeString(text) + `</pre></body>`
	h.do("text", chromedp.Navigate("data:text/html;charset=utf-8;base64,"+base64.StdEncoding.EncodeToString([]byte(page))))
	h.capture(name)
}

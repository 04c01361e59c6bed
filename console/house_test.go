package console_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"flag"
	"fmt"
	"html"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"

	"airdrift/api"
	"airdrift/client"
	"airdrift/console"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
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

func open(t *testing.T) *house { return openOn(t, storetest.DSN(t)) }

// openOn runs it on a database that the test has made.
func openOn(t *testing.T, dsn string) *house {
	t.Helper()
	files := console.Files()
	if files == nil {
		t.Fatal("the console is not built: run make build")
	}
	demo := servicetest.Demo(t, servicetest.Config{Console: files, DSN: dsn})
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

// until waits for a JavaScript condition. A page that goes away meanwhile takes the question with it; it is put to the next.
func until(condition string) action {
	poll := chromedp.Poll[bool]("Boolean("+condition+")", chromedp.WithPollingTimeout(3*time.Minute))
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := poll(ctx, t)
		for err != nil && strings.Contains(err.Error(), "Cannot find context") && ctx.Err() == nil {
			_, err = poll(ctx, t)
		}
		return chromedp.Void{}, err
	}
}

// do carries out browser actions within a time limit.
func (h *house) do(what string, actions ...action) {
	h.t.Helper()
	h.wait(what, stepWait, actions...)
}

// wait is do for what takes longer.
func (h *house) wait(what string, limit time.Duration, actions ...action) {
	h.t.Helper()
	ctx, cancel := context.WithTimeout(h.browser, limit)
	defer cancel()
	if err := chromedp.Do(ctx, actions...); err != nil {
		at, _ := chromedp.Run(h.browser, chromedp.Evaluate[string]("location.href"))
		page, _ := chromedp.Run(h.browser, chromedp.Text(chromedp.CSS("body")))
		h.t.Fatalf("%s: %v\nthe page at %s shows:\n%s", what, err, at, page)
	}
}

// has waits until the page shows a text.
func has(text string) action {
	return until(fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

// chip waits until the page shows a chip that says just that.
func chip(text string) action {
	return until(fmt.Sprintf(`[...document.querySelectorAll(".tag, .MuiChip-label")].some((c) => c.innerText === %q)`, text))
}

// button finds a button or link by what is written on it.
func button(text string) string {
	return fmt.Sprintf(`//*[(self::button or self::a or self::label) and normalize-space(.)=%q]`, text)
}

func click(text string) action { return press(button(text)) }

// press clicks an element once it is at rest and nothing lies over it: a menu still opening would be missed, and a dialog still closing would
// take the click itself.
func press(path string) action {
	return chromedp.Steps(until(fmt.Sprintf(`(() => {
		const element = document.evaluate(%q, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE).singleNodeValue;
		if (!element) return false;
		element.scrollIntoView({ block: "nearest", behavior: "instant" });
		// A link over two lines has nothing of itself in the middle of its box: its first line is what is clicked.
		const [line] = element.getClientRects(), before = element.boxBefore;
		if (!line) return false;
		element.boxBefore = JSON.stringify(line);
		const onTop = document.elementFromPoint(line.x + line.width / 2, line.y + line.height / 2);
		return element.boxBefore === before && element.contains(onTop) && !document.getAnimations().some((a) => a.playState === "running" && a.effect.target.contains(element));
	})()`, path)), chromedp.Click(path))
}

// confirm answers the question of a dialog.
func confirm(text string) action {
	return press(fmt.Sprintf(`//*[@role="dialog"]//button[normalize-space(.)=%q]`, text))
}

// field finds a text field by its label.
func field(label string) string {
	return fmt.Sprintf(`//*[(self::input or self::textarea) and @id=//label[starts-with(normalize-space(.),%q)]/@for][not(@aria-hidden)]`, label)
}

// fill writes into a field in place of what is there.
func fill(label, text string) action {
	return chromedp.Steps(
		press(field(label)),
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
		h.do("picture "+name, prefer(scheme), until(fmt.Sprintf("document.documentElement.hasAttribute('data-%s')", scheme)), settled)
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

// axe is the program that finds what keeps people with a keyboard or a screen reader from using a page.
var axe = sync.OnceValues(func() (string, error) {
	text, err := os.ReadFile(filepath.Join("node_modules", "axe-core", "axe.min.js"))
	return string(text), err
})

// page checks what every page must keep in light and dark, in a wide window and on a phone, and draws it where pictures are
// wanted: no violation that axe finds, and nothing that runs out of the window sideways.
func (h *house) page(name string) {
	h.t.Helper()
	h.accessible(name)
	h.shot(name)
	h.do("a small phone", chromedp.EmulateViewport(320, 640), until("innerWidth === 320"))
	h.do(name+" on a small phone", until("document.documentElement.scrollWidth <= 320"))
	h.check(name+" on a small phone", "light")
	h.do("twice as large", chromedp.EmulateViewport(640, 400, chromedp.EmulateScale(2)), until("innerWidth === 640"))
	h.do(name+" twice as large", until("document.documentElement.scrollWidth <= 640"))
	h.check(name+" twice as large", "light")
	if *shots != "" {
		h.do("a phone", chromedp.EmulateViewport(390, 844), until("innerWidth === 390"))
		h.shot(name + "-phone")
	}
	h.do("wide again", chromedp.EmulateViewport(1280, 800), until("innerWidth === 1280"))
}

// accessible lets axe look at the page in light and dark.
func (h *house) accessible(name string) {
	h.t.Helper()
	h.check(name, "light", "dark")
}

// check runs axe on the page as it is, in some colour schemes.
func (h *house) check(name string, schemes ...string) {
	h.t.Helper()
	program, err := axe()
	if err != nil {
		h.t.Fatal("axe-core is not installed: run make build: ", err)
	}
	h.do("the pointer out of the way", chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, 0, 0), until("!document.querySelector('[role=tooltip]')"))
	for _, scheme := range schemes {
		h.do(scheme, prefer(scheme), until(fmt.Sprintf("document.documentElement.hasAttribute('data-%s')", scheme)), settled)
		script := program + `;axe.run(document, {resultTypes: ['violations']}).then(r => JSON.stringify(r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.html.slice(0, 160) + ' ' + n.failureSummary).join(' | '))))`
		found, err := chromedp.Run(h.browser, chromedp.Evaluate[string](script, chromedp.EvalAwaitPromise))
		if err != nil {
			h.t.Fatalf("axe on %s: %v", name, err)
		}
		var violations []string
		if err := json.Unmarshal([]byte(found), &violations); err != nil {
			h.t.Fatal(err)
		}
		for _, v := range violations {
			h.t.Errorf("%s, %s: %s", name, scheme, v)
		}
	}
	h.do("light again", prefer("light"), until("document.documentElement.hasAttribute('data-light')"))
}

// settled waits until nothing moves any more but what moves for ever.
var settled = until("document.getAnimations().every(a => a.playState !== 'running' || a.effect.getTiming().iterations === Infinity)")

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
	h.drawText("explain-command", "$ airdrift explain 10.40.1.11\n"+run("--data", h.Data, "explain", "10.40.1.11"))
}

// drawText draws a terminal's text.
func (h *house) drawText(name, text string) {
	page := `<body style="margin:0;background:#171c1a;color:#dfe7e2"><pre style="font:12.5px/1.45 'DejaVu Sans Mono',monospace;padding:14px;margin:0">` +
		html.EscapeString(text) + `</pre></body>`
	h.do("text", chromedp.Navigate("data:text/html;charset=utf-8;base64,"+base64.StdEncoding.EncodeToString([]byte(page))))
	h.capture(name)
}

package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"airdrift/console"
	"airdrift/core/evidence"
	"airdrift/service"
	"airdrift/store"
)

// browsingFigures are what Chromium measures of the console, before a site of 100,000 devices.
type browsingFigures struct {
	size    float64 // of the first page, compressed, over 250 kB
	paint   float64 // from nothing to the figures of the overview, on a processor a quarter as fast, over 1 s
	list    float64 // the longest frame while 100,000 devices are scrolled, over 50 ms
	running float64 // the same in a sweep that runs
}

var browsingOnce = sync.OnceValues(browsing)

func ofBrowsing(figure func(browsingFigures) float64) func() (float64, error) {
	return func() (float64, error) {
		f, err := browsingOnce()
		return figure(f), err
	}
}

// slower is how many times slower than this machine's the processor is that the first paint is measured on.
const slower = 4

// watchPaint is run before a page's own code. It takes down when the figures of the overview are painted: in the frame after they were put into
// the page, whose task comes behind the painting. What it looks for costs nothing, as a text that has to be laid out first would.
const watchPaint = `new MutationObserver((_, observer) => {
	if (!document.querySelector(".figure")) return;
	observer.disconnect();
	requestAnimationFrame(() => setTimeout(() => { window.painted = performance.now(); }));
}).observe(document, { childList: true, subtree: true });`

// sizeOf sums what came over the line until the first paint, as it was sent.
const sizeOf = `[...performance.getEntriesByType("navigation"), ...performance.getEntriesByType("resource")]
	.filter((e) => e.responseEnd < window.painted && !e.name.includes("/api/")).reduce((sum, e) => sum + e.encodedBodySize, 0)`

// allLoaded is true once the code of all pages has come, which is loaded when the window has nothing else to do; that of the list of sweeps is the last.
const allLoaded = `performance.getEntriesByType("resource").some((e) => e.name.includes("SweepsPage"))`

// scroll goes through a long table from its start to its end in some seconds, and gives the longest time between two frames, in milliseconds.
const scroll = `new Promise((done) => {
	const frame = document.querySelector("[role=region][tabindex]"), steps = 240;
	let longest = 0, before = 0, step = 0;
	const draw = (now) => {
		if (before) longest = Math.max(longest, now - before);
		before = now;
		if (step > steps) return done(longest);
		frame.scrollTop = (frame.scrollHeight - frame.clientHeight) * (step++ / steps);
		requestAnimationFrame(draw);
	};
	requestAnimationFrame(draw);
})`

func browsing() (figures browsingFigures, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()
	files := console.Files()
	if files == nil {
		return figures, errors.New("the console is not built: run make build")
	}
	server, dir, end, err := database(ctx)
	if err != nil {
		return figures, err
	}
	defer end()
	site, err := fillLedger(ctx, server.DSN())
	if err != nil {
		return figures, err
	}
	data := filepath.Join(dir, "service")
	in, err := service.Run(ctx, service.InstanceConfig{Data: data, Listen: "127.0.0.1:0", DSN: server.DSN(), Vantages: service.FixedVantages{}, Console: files})
	if err != nil {
		return figures, err
	}
	defer in.Close()
	b, closeBrowser, err := openBrowser(ctx)
	if err != nil {
		return figures, err
	}
	defer closeBrowser()
	if err := b.signIn(in.URL, in.PasswordFile()); err != nil {
		return figures, err
	}
	overview := fmt.Sprintf("%s/sites/%d", in.URL, site)
	if err := chromedp.Do(b.ctx, call(page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: watchPaint})); err != nil {
		return figures, err
	}
	painted, err := usually(func() (float64, error) { return b.paint(overview) })
	if err != nil {
		return figures, err
	}
	size, err := number(b, sizeOf)
	if err != nil {
		return figures, err
	}
	figures.size, figures.paint = size/250_000, painted/1000
	if figures.list, err = usually(func() (float64, error) { return b.scrollThrough(overview + "/devices") }); err != nil {
		return figures, err
	}
	sweep, stop, err := keepSweeping(ctx, server.DSN(), site)
	if err != nil {
		return figures, err
	}
	defer stop()
	figures.running, err = usually(func() (float64, error) { return b.scrollThrough(fmt.Sprintf("%s/sweeps/%d", overview, sweep)) })
	return figures, err
}

// keepSweeping makes a sweep that has seen 100,000 and sees more four times a second until stop is called.
func keepSweeping(ctx context.Context, dsn string, site uint64) (sweep uint64, stop func(), err error) {
	st, err := store.Open(ctx, dsn)
	if err != nil {
		return 0, nil, err
	}
	record := store.Sweep{SiteID: site, State: store.Running, Began: time.Now().UTC()}
	if err := st.CreateSweep(ctx, &record); err != nil {
		return 0, nil, errors.Join(err, st.Close())
	}
	seen := manySightings(record.Began)
	for i := 0; i < len(seen); i += 1000 {
		if _, err := st.SaveSightings(ctx, record.ID, seen[i:min(i+1000, len(seen))]); err != nil {
			return 0, nil, errors.Join(err, st.Close())
		}
	}
	more, cancel := context.WithCancel(ctx)
	var going sync.WaitGroup
	going.Go(func() {
		ticker := time.NewTicker(250 * time.Millisecond)
		defer ticker.Stop()
		for i := 0; ; i++ {
			select {
			case <-more.Done():
				return
			case <-ticker.C:
			}
			_, _ = st.SaveSightings(more, record.ID, []evidence.Sighting{seen[i%len(seen)]}) // written over, as what is learned of somebody grows
		}
	})
	return record.ID, func() {
		cancel()
		going.Wait()
		_ = st.Close()
	}, nil
}

// browser is a Chromium that speaks to nobody but the console.
type browser struct{ ctx context.Context }

func openBrowser(ctx context.Context) (browser, func(), error) {
	profile, err := os.MkdirTemp("", "airdrift-bench-browser-")
	if err != nil {
		return browser{}, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800), chromedp.UserDataDir(profile))
	for _, flag := range []string{"disable-quic", "disable-background-networking", "no-first-run", "disable-component-update", "disable-sync"} {
		options = append(options, chromedp.Flag(flag, true))
	}
	allocator, stop := chromedp.NewExecAllocator(ctx, options...)
	tab, closeTab := chromedp.NewContext(allocator)
	end := func() {
		closeTab()
		stop()
		_ = os.RemoveAll(profile)
	}
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil {
		end()
		return browser{}, nil, fmt.Errorf("start Chromium (package chromium): %w", err)
	}
	return browser{tab}, end, nil
}

// until waits for a JavaScript condition.
func (b browser) until(condition string) error {
	_, err := chromedp.Run(b.ctx, chromedp.Poll[bool]("Boolean("+condition+")", chromedp.WithPollingTimeout(time.Minute)))
	return err
}

// number gives the value of a JavaScript expression, which may be a promise of it.
func number(b browser, expression string) (float64, error) {
	return chromedp.Run(b.ctx, chromedp.Evaluate[float64](expression, chromedp.EvalAwaitPromise))
}

func (b browser) signIn(url, passwordFile string) error {
	password, err := os.ReadFile(passwordFile)
	if err != nil {
		return err
	}
	if err := chromedp.Do(b.ctx, chromedp.Navigate(url+"/sign-in")); err != nil {
		return err
	}
	return b.until(fmt.Sprintf(`fetch("/api/v1/session", { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify({ user: "administrator", password: %q }) }).then((r) => r.ok)`,
		strings.TrimSpace(string(password))))
}

// usually measures five times, each time from the beginning, and gives the median: a moment in which this machine does something else decides nothing.
func usually(measure func() (float64, error)) (float64, error) {
	var all []float64
	for range 5 {
		measured, err := measure()
		if err != nil {
			return 0, err
		}
		all = append(all, measured)
	}
	slices.Sort(all)
	return all[len(all)/2], nil
}

// paint opens a page with nothing in the cache, on a slower processor, and gives when its figures were painted, in milliseconds.
func (b browser) paint(url string) (float64, error) {
	err := chromedp.Do(b.ctx,
		call(network.SetCacheDisabled, network.SetCacheDisabledParams{CacheDisabled: true}),
		call(emulation.SetCPUThrottlingRate, emulation.SetCPUThrottlingRateParams{Rate: slower}),
		chromedp.Navigate("about:blank"), chromedp.Navigate(url))
	if err != nil {
		return 0, err
	}
	if err := b.until("window.painted"); err != nil {
		return 0, err
	}
	painted, err := number(b, "window.painted")
	return painted, errors.Join(err, chromedp.Do(b.ctx, call(emulation.SetCPUThrottlingRate, emulation.SetCPUThrottlingRateParams{Rate: 1})))
}

// scrollThrough opens a page with a long table and scrolls it from its start to its end: it gives the longest frame over 50 ms.
func (b browser) scrollThrough(url string) (float64, error) {
	if err := chromedp.Do(b.ctx, chromedp.Navigate(url)); err != nil {
		return 0, err
	}
	if err := b.until(`document.body.innerText.includes("of 100,000") && document.querySelector("[role=row] a")`); err != nil {
		return 0, err
	}
	if err := b.until(allLoaded); err != nil {
		return 0, err
	}
	longest, err := number(b, scroll)
	if err != nil {
		return 0, err
	}
	return longest / 50, b.until(`document.body.innerText.includes("–100,000 of 100,000") && [...document.querySelectorAll("[role=row]")].at(-1).innerText.includes(".")`)
}

// call makes a command of the browser's an action.
func call[P, R any](command cdp.Command[P, R], params P) chromedp.Action[chromedp.Void] {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, t, command, params)
		return chromedp.Void{}, err
	}
}

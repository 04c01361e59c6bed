package console_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"

	"airdrift/api"
)

// cable stands between the browser and the service. It can be pulled, fail and be slow.
type cable struct {
	url    string
	state  atomic.Int32
	server *httptest.Server
}

const (
	whole   = iota
	pulled  // connections end without an answer
	failing // a proxy on the way answers that it cannot reach the service
	slow    // every answer takes its time
)

// slowness is by how much a slow cable delays an answer.
const slowness = 700 * time.Millisecond

// newCable lays a cable to the service.
func (h *house) newCable() *cable {
	h.t.Helper()
	service, err := url.Parse(h.URL)
	if err != nil {
		h.t.Fatal(err)
	}
	c := &cable{}
	proxy := &httputil.ReverseProxy{
		Rewrite:       func(r *httputil.ProxyRequest) { r.SetURL(service) },
		FlushInterval: -1, // events pass at once
		ErrorHandler:  func(w http.ResponseWriter, _ *http.Request, _ error) { w.WriteHeader(http.StatusBadGateway) },
	}
	c.server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch c.state.Load() {
		case pulled:
			panic(http.ErrAbortHandler)
		case failing:
			w.WriteHeader(http.StatusBadGateway)
			return
		case slow:
			select {
			case <-r.Context().Done():
				return
			case <-time.After(slowness):
			}
		}
		proxy.ServeHTTP(w, r)
	}))
	c.server.Config.ErrorLog = nil
	h.t.Cleanup(c.server.Close)
	c.url = c.server.URL
	return c
}

// pull ends all connections, and lets no more through.
func (c *cable) pull() {
	c.state.Store(pulled)
	c.server.CloseClientConnections()
}

// becomes changes what the cable does, as a step of the test.
func (c *cable) becomes(state int32) action { return act(func() { c.state.Store(state) }) }

// act makes a step of the test one of the browser's.
func act(do func()) action {
	return func(context.Context, *chromedp.Target) (chromedp.Void, error) {
		do()
		return chromedp.Void{}, nil
	}
}

// dropSession deletes the browser's cookie, as of a session that has ended.
func dropSession(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
	_, err := cdp.Call(ctx, t, network.ClearBrowserCookies, cdp.Empty{})
	return chromedp.Void{}, err
}

// place is where a button is that says text, as the browser is asked for it.
func place(text string) string {
	return fmt.Sprintf(`JSON.stringify(document.evaluate(%q, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE).singleNodeValue?.getBoundingClientRect().y)`, button(text))
}

// remember keeps where a button is, once it is at rest, for notMoved.
func remember(text string) action {
	return until(fmt.Sprintf(`(() => { const before = window.placeBefore; window.placeBefore = %s; return before !== undefined && before === window.placeBefore; })()`, place(text)))
}

// notMoved waits until something is said, and a button is where remember found it while it is: whoever is about to press it hits it.
func notMoved(text, said string) action {
	return until(fmt.Sprintf("document.body.innerText.includes(%q) && window.placeBefore === %s", said, place(text)))
}

// TestConnectionLost pulls the cable while somebody types: what is known and what was typed stays, failure is told and mended by itself, and a session that has
// ended is renewed over the page.
func TestConnectionLost(t *testing.T) {
	h := open(t)
	if _, err := h.Client.StartSweep(t.Context(), h.Site.ID, api.NewSweep{Ranges: "10.40.1.1-10.40.1.4", Pace: "brisk"}); err != nil {
		t.Fatal(err)
	}
	h.do("signed in", chromedp.Navigate(h.URL), has("Sign in"), fill("Name", "administrator"), fill("Password", h.Password), click("Sign in"), has("4 of 4 addresses answered"), has("done"))
	c := h.newCable()
	const typed = `[...document.querySelectorAll("[role=dialog] :is(input, textarea)")].some((field) => field.value === "10.40.1.0/24")`
	h.do("something typed", chromedp.Navigate(c.url+h.path("")[len(h.URL):]), has("nobody manages"), click("Start a sweep"), has("Leave out"), fill("Ranges", "10.40.1.0/24"))
	h.do("the cable pulled", act(c.pull), has("The service does not answer. What is shown may be old"), has("nobody manages"), until(typed))
	h.accessible("no connection")
	h.do("and put in again", c.becomes(whole), until(`!document.body.innerText.includes("The service does not answer")`), until(typed))
	h.do("a proxy that fails", c.becomes(failing), has("The service does not answer. What is shown may be old"), has("nobody manages"), until(typed))
	h.do("and no longer", c.becomes(slow), until(`!document.body.innerText.includes("The service does not answer")`), until(typed))
	h.do("a slow line", c.becomes(whole), until(typed))
	h.do("a session that has ended", dropSession, has("The session has ended"))
	h.accessible("a session that has ended")
	h.do("renewed", fill("Password", h.Password), click("Sign in"), until(`!document.body.innerText.includes("The session has ended")`), until(typed))
	h.do("a sweep", click("Start"), has("Stop, and keep what was seen"), remember("Stop, and keep what was seen"))
	h.do("the cable pulled meanwhile", act(c.pull), has("Connection lost, reconnecting"), notMoved("Stop, and keep what was seen", "it is as of"))
	h.do("and put in again", c.becomes(whole), until(`!document.body.innerText.includes("Connection lost")`))
	h.do("stopped", click("Stop, and keep what was seen"), has("Compared with what was known before"))
	h.do("a page whose code does not come", act(c.pull), click("Firmware"), has("it is as of"))
	h.do("comes when it can", c.becomes(whole), until(`document.querySelector("h1")?.innerText === "Firmware"`))
	h.do("all pages there", click("Devices"), until(`document.querySelector("h1")?.innerText === "Devices"`), has("10.40.1.2"), until(`performance.getEntriesByType("resource").some((e) => e.name.includes("FencePage") && e.responseStatus === 200)`))
	h.do("without a connection", act(c.pull), has("it is as of"))
	h.do("what was seen before", click("Overview"), has("nobody manages"), click("Devices"), has("10.40.1.2"), has("it is as of"))
	h.do("a dialog that was never open", press(`//header//button[@aria-label="Check an address"]`), has("Within the fence"), fill("Address", "10.40.1.2"), confirm("Check"), has("The service does not answer. Is it running"), confirm("Cancel"))
	h.do("what was not", click("Fence"), has("The service does not answer. Is it running"), has("Try again"))
	h.accessible("nothing to be had")
	h.do("and put in again", c.becomes(whole), click("Try again"), has("Networks"))
	h.do("a slow line", c.becomes(slow), click("Credentials"), has("garden read"), click("Register"), has("The register is empty"))
}

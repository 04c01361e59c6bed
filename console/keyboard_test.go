package console_test

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"airdrift/client"
)

// named gives the name of the element that has the focus, as somebody is told it who cannot see the page.
const named = `(() => {
	const e = document.activeElement;
	return e.ariaLabel ?? e.labels?.[0]?.innerText ?? e.innerText ?? "";
})()`

// tabTo presses the tabulator until the element with a name has the focus, which must be seen. The dots at the end of a name stand for whatever follows.
func tabTo(name string) action {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		var passed []string
		for range 150 {
			if _, err := chromedp.KeyEvent("\t")(ctx, t); err != nil {
				return chromedp.Void{}, err
			}
			now, err := chromedp.Evaluate[string](named)(ctx, t)
			if err != nil {
				return chromedp.Void{}, err
			}
			if whole, begins := strings.CutSuffix(name, "…"); trimmed(now) != name && !(begins && strings.HasPrefix(trimmed(now), whole)) {
				passed = append(passed, trimmed(now))
				continue
			}
			return until(`(() => { const box = document.activeElement.getBoundingClientRect(); return box.width > 0 && document.activeElement.matches(":focus-visible"); })()`)(ctx, t)
		}
		return chromedp.Void{}, fmt.Errorf("the tabulator does not come to %q, but to %q", name, passed)
	}
}

// trimmed takes the mark of a required field, and lines, from a name.
func trimmed(name string) string {
	var out []rune
	for _, r := range name {
		switch r {
		case '*', '\u2009', '\u00a0', '\n':
		default:
			out = append(out, r)
		}
	}
	return string(out)
}

// types writes into what has the focus.
func types(text string) action { return chromedp.KeyEvent(text) }

// enter presses the key that opens, starts and keeps.
var enter = chromedp.KeyEvent("\r")

// TestByKeyboard does the main job without touching the mouse: in, a sweep, what nobody manages, a device, into the register, out.
func TestByKeyboard(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.do("in", chromedp.Navigate(h.URL), has("Sign in"), until(`document.activeElement.matches("input")`), types("administrator"), tabTo("Password"), types(h.Password), enter, has("Nothing is known yet"))
	h.do("past the menu", chromedp.Navigate(h.path("")), has("Nothing is known yet"), tabTo("Skip to the page"), enter, until(`document.activeElement.id === "main"`))
	h.do("a sweep", tabTo("Start a sweep"), enter, has("Leave out"), tabTo("Ranges"), types("10.40.1.20-30"), tabTo("Start"), enter)
	h.wait("its end", time.Minute, has("of 11 addresses answered"))
	h.do("what it saw", tabTo("What the sweep saw"), chromedp.KeyEvent(kb.PageDown), has("10.40.1.24")) // page down, within the list
	h.do("the devices", tabTo("The devices"), enter, has("Devices"), until(`document.activeElement.matches("h1")`))
	h.do("nobody's", tabTo("unmanaged"), enter, location(fmt.Sprintf("/sites/%d/devices?standing=unmanaged&presence=seen", h.Site.ID)),
		until(`document.querySelector("button[value=unmanaged]").ariaPressed === "true" && document.querySelector("[data-field=kind]")`)) // the list of before has gone
	h.do("in another order", tabTo("Kind"), enter, until(`document.querySelector("[data-field=kind]").ariaSort === "ascending"`), tabTo("Devices"))
	h.do("one of them", tabTo("10.40.1.24"), enter, has("What it is believed to be"))
	h.do("into the register", tabTo("Add to the register"), enter, has("Name in the register"), tabTo("Location"), types("nursery"), tabTo("Add"), enter, chip("managed"))
	h.do("why it is believed", tabTo("arp …"), types(" "), has("arp.mac"))
	h.do("out", chromedp.Navigate(h.path("/devices?standing=managed")), has("1–1 of 1"), tabTo("Sign out"), enter, has("The first user is administrator"))
	list, err := h.Client.Devices(t.Context(), h.Site.ID, client.DeviceQuery{Filter: url.Values{"standing": {"managed"}}})
	if err != nil || len(list.Items) != 1 || list.Items[0].Addrs[0] != "10.40.1.24" {
		t.Errorf("managed are %+v, %v", list, err)
	}
}

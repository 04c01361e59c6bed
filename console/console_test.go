package console_test

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"

	"airdrift/api"
	"airdrift/client"
)

// TestConsole is one auditor's visit, from the sign-in to the sign-out.
func TestConsole(t *testing.T) {
	h := open(t)
	h.signIn()
	h.footing()
	h.fence()
	h.sweepWithFaults()
	h.watchSweep()
	h.importRegister()
	h.overview()
	h.devices()
	h.onAPhone()
	h.device()
	h.changeDevice()
	h.mergeDevices()
	h.changes()
	h.responseTimes()
	h.findings()
	h.manyAtOnce()
	h.drift()
	h.handOver()
	h.openness()
	h.firmware()
	h.whoIsIt()
	h.hostileDevices()
	h.credentials()
	h.rules()
	h.discardSweep()
	h.users()
	h.secondFactor()
	h.lookOnly()
	h.signOut()
}

func (h *house) signIn() {
	h.do("a page without a session", chromedp.Navigate(h.path("/devices?standing=unmanaged")), has("Sign in"))
	h.page("sign-in")
	h.do("a wrong password", fill("Name", "administrator"), fill("Password", "not the password"), click("Sign in"), has("the name or the password is not right"))
	h.do("the right one", fill("Password", h.Password), click("Sign in"), has("No device is like this"),
		location(fmt.Sprintf("/sites/%d/devices?standing=unmanaged", h.Site.ID)))
	h.do("an empty site", click("Overview"), has("Nothing is known yet"))
	h.page("overview-empty")
	h.do("another site", chromedp.Navigate(h.URL+"/sites/new"), has("It is swept in its own networks and nowhere else"))
	h.page("site-new")
	h.do("a site of a public network", fill("Name of the site", "Elsewhere"), fill("Networks", "192.0.2.0/24"), click("Add the site"), has("192.0.2.0/24 is a public network"))
}

func (h *house) footing() {
	h.do("the footing", chromedp.Navigate(h.path("/footing")), has("10.40.1.250/24"), has("255.255.255.0"), has("frames: ARP"))
	h.do("an address beyond", fill("Address", "10.40.2.13"), click("Tell me"), has("it is reached through the gateway 10.40.1.1"), has("It lies within the fence"))
	h.page("footing")
	h.do("nonsense", fill("Address", "10.40.2.300"), click("Tell me"), has("is not an address such as"))
}

func (h *house) fence() {
	h.do("the fence", click("Fence"), has("10.40.5.0/24"), has("2^64"), until(`document.title === "Fence – Airdrift" && document.activeElement.matches("h1")`))
	h.do("a malformed network", fill("Subnet", "10.41.0.1/24"), click("Add the network"), has("did you mean 10.41.0.0/24?"))
	h.do("a network", fill("Subnet", "10.41.0.0/24"), fill("Network’s name", "nursery"), click("Add the network"), has("nursery"))
	h.do("taken out again", press(`//button[@aria-label="Delete 10.41.0.0/24 from the fence"]`), has("What was seen there stays."), confirm("Delete"), until("!document.body.innerText.includes('nursery')"))
	h.page("fence")
	h.do("another name", click("Rename the site"), fill("New name of the site", "Fernhollow gardens"), click("Rename"), until(`!document.querySelector("[role=dialog]")`), has("Fernhollow gardens"))
	h.do("the old one", click("Rename the site"), fill("New name of the site", h.Site.Name), click("Rename"), until(`!document.querySelector("[role=dialog]")`))
	h.do("deleting under another name", click("Delete the site"), has("Only a backup brings it back."), fill("Type "+h.Site.Name, "Elsewhere"), click("Delete it for good"), has("Nothing was deleted"))
	h.accessible("a site to be deleted")
	h.do("a time zone that is none", click("Cancel"), click("Times in each viewer’s zone"), fill("Time zone", "Fernhollow"), click("Show times in it"), has("is no time zone"))
	h.accessible("a time zone")
	h.do("one that is", fill("Time zone", "UTC"), click("Show times in it"), has("Times in UTC"))
	h.do("keeping", click("All evidence is kept"), fill("All of it for so many days", "4000"), click("Save it"), has("Evidence kept for 4000 days"))
}

func (h *house) sweepWithFaults() {
	h.do("a range that is malformed", click("Overview"), click("Start a sweep"), has("Leave out"), fill("Ranges", "10.40.1.0/24, 10.40.300.9"), click("Start"), has(`"10.40.300.9" is not an address`))
	h.accessible("start a sweep")
	h.shot("start-sweep")
	h.do("a plan", click("With more care, or more thoroughly"), has("Quiet hours"), fill("Quiet hours", "at night"), fill("Ranges", "10.40.1.0/24"), click("Start"), has(`quiet hours "at night"`),
		fill("Quiet hours", "03:00-03:01"), fill("Ports to send nothing to", "9100"))
	h.accessible("a plan")
	h.do("a range outside", fill("Ranges", "10.41.0.0/24"), click("Start"), has("10.41.0.0 lies outside the networks this site may be swept in"))
	if sweeps, err := h.Client.Sweeps(h.t.Context(), h.Site.ID); err != nil || len(sweeps) != 0 {
		h.t.Errorf("after two refused sweeps there are %v, %v", sweeps, err)
	}
}

func (h *house) watchSweep() {
	h.do("a sweep that runs", fill("Ranges", "10.40.1.0/24, 10.40.2.0/24"), click("Start"), has("Stop, and keep what was seen"), has("probes/s"), has("10.40.1.2"))
	h.shot("sweep-running")
	if sweeps, err := h.Client.Sweeps(h.t.Context(), h.Site.ID); err != nil || len(sweeps) != 1 || sweeps[0].Plan == nil || !slices.Equal(sweeps[0].Plan.Never, []uint16{9100}) {
		h.t.Errorf("the sweep's plan: %+v, %v", sweeps, err)
	}
	h.do("stopping it", click("Stop, and keep what was seen"), has("stopped"), has("Compared with what was known before"), has("Stopped by administrator."))
	h.do("going on", click("Resume"), has("Stop, and keep what was seen"), click("Stop, and keep what was seen"), has("Continued by administrator."))
	sweep, err := h.Client.StartSweep(h.t.Context(), h.Site.ID, api.NewSweep{Pace: "brisk"})
	if err != nil {
		h.t.Fatal(err)
	}
	h.do("a whole sweep", chromedp.Navigate(h.path(fmt.Sprintf("/sweeps/%d", sweep.ID))))
	h.wait("its end", 2*time.Minute, has("of 1,270 addresses answered"))
	h.do("what it saw", has("Weave 24 managed switch"), has("The sweep ended"))
	h.page("sweep-done")
	h.do("the list of sweeps", click("Sweeps"), has("stopped"), has("of 1270"))
	h.page("sweeps")
	h.do("reading again", click("Re-evaluate"), has("All stored evidence was re-evaluated."))
}

func (h *house) importRegister() {
	faulty := filepath.Join(h.t.TempDir(), "faulty.csv")
	if err := os.WriteFile(faulty, []byte("name,mac\nvault door,54:be:2c:03:30\n<b>bold</b>,zz\n"), 0o600); err != nil {
		h.t.Fatal(err)
	}
	h.do("a faulty register", click("Register"), has("The register is empty"), chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{faulty}),
		has("nothing was imported: the file has 2 faults"), has("line 3, column 2 (mac)"))
	h.page("register-faults")
	good, err := filepath.Abs("../scenarios/fernhollow-register.csv")
	if err != nil {
		h.t.Fatal(err)
	}
	h.do("the register", chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{good}), has("What fernhollow-register.csv would change"), has("104 devices added, 0 changed"))
	if entries, err := h.Client.Register(h.t.Context(), h.Site.ID); err != nil || len(entries) != 0 {
		h.t.Fatalf("a preview has written %d entries, %v", len(entries), err)
	}
	h.accessible("what an import would change")
	h.do("done so", confirm("Import it"), has("104 devices added"), has("84 unmanaged"), has("seed label printer"))
	h.page("register")
	h.do("an entry that means nobody", click("Add a device"), has("tells which device is meant"), fill("Location", "attic"), click("Add"), has("names no device"))
	h.accessible("an entry of the register")
	h.do("an entry", fill("Name", "boiler gateway"), fill("Address", "10.40.2.250"), click("Add"), until(`!document.querySelector("[role=dialog]")`))
	missing, err := h.Client.MissingEntries(h.t.Context(), h.Site.ID)
	at := slices.IndexFunc(missing, func(e api.Entry) bool { return e.Name == "boiler gateway" })
	if err != nil || at < 0 || missing[at].Addr != "10.40.2.250" || missing[at].Location != "attic" {
		h.t.Fatalf("never answered have %+v, %v", missing, err)
	}
	h.do("those that never answered", click("Never answered"), has("has not answered yet"), location(fmt.Sprintf("/sites/%d/register?missing=true", h.Site.ID)))
	if err := h.Client.RemoveEntry(h.t.Context(), missing[at].ID); err != nil {
		h.t.Fatal(err)
	}
}

func (h *house) overview() {
	h.do("the overview", click("Overview"), has("nobody manages"), has("in the register, missing"), has("7 devices at an address that another device holds too"), has("3 devices: wrong subnet"))
	h.page("overview")
}

func (h *house) devices() {
	h.do("what nobody manages", chromedp.Navigate(h.path("/devices?standing=unmanaged")), has("10.40.1.24"), has("of 84"))
	h.page("devices")
	h.do("a search", fill("Search", "label"), has("1–1 of 1"), location(fmt.Sprintf("/sites/%d/devices?standing=unmanaged&text=label", h.Site.ID)))
	search := `document.querySelector("input[placeholder^='name, address']").value`
	h.do("taken back", chromedp.NavigateBack(), location(fmt.Sprintf("/sites/%d/devices?standing=unmanaged", h.Site.ID)), until(search+` === ""`), has("of 84"))
	h.do("and once more", chromedp.NavigateForward(), until(search+` === "label"`), has("1–1 of 1"))
	h.do("a kind", chromedp.Navigate(h.path("/devices?kind=pdu&sort=address&descend=true")), has("1–3 of 3"), has("comms room pdu"))
	h.do("a trait", chromedp.Navigate(h.path("/devices")), click("More filters"), press(field("Flags")), press(`//li[@role="option" and .="wrong subnet"]`), click("Show"),
		location(fmt.Sprintf("/sites/%d/devices?trait=wrong+subnet", h.Site.ID)), has("1–3 of 3"), has("192.168.77.10"))
	h.do("columns", click("Columns"), press(`//li[@role="menuitemcheckbox" and normalize-space(.)="MAC"]`),
		location(fmt.Sprintf("/sites/%d/devices?trait=wrong+subnet&columns=address%%2Cname%%2Ckind%%2Cvendor%%2Cmodel%%2Cstanding%%2Cmac%%2ClastSeen", h.Site.ID)))
	h.accessible("columns")
	h.do("the link to the file", until(`document.querySelector("a[download='devices.csv']").href.includes("devices.csv?trait=wrong+subnet&columns=address%2Cname")`))
	h.do("kept for the next time", press(`//li[@role="menuitem" and normalize-space(.)="Columns that fit"]`), click("Columns"), press(`//li[@role="menuitemcheckbox" and normalize-space(.)="Confidence"]`), chromedp.KeyEvent("\x1b"),
		chromedp.Navigate(h.path("/devices")), until(`document.querySelector("[role=columnheader][data-field=strength]")`))
	h.do("as usual again", click("Columns"), press(`//li[@role="menuitem" and normalize-space(.)="Columns that fit"]`), until(`!document.querySelector("[role=columnheader][data-field=strength]")`))
}

// onAPhone reads the list as cards, turns its page, and goes to a device and back.
func (h *house) onAPhone() {
	h.do("a phone", chromedp.EmulateViewport(390, 844), chromedp.Navigate(h.path("/devices")), until(`document.querySelectorAll("ul[aria-label=Devices] > li a").length > 5`),
		until(`!document.querySelector("[role=table]")`), until(`document.documentElement.scrollHeight > 5000`)) // the list scrolls with the page
	const at = `[...document.querySelectorAll("ul[aria-label=Devices] > li")].some((li) => li.ariaPosInSet === "60" && li.querySelector("a"))`
	h.do("further down", until(`(window.scrollTo(0, 5400), `+at+`)`), until(`/at=\d+/.test(location.search)`), press(`//ul[@aria-label="Devices"]/li[@aria-posinset="60"]//a`), has("Where and when"))
	h.do("back in the list", chromedp.NavigateBack(), until(at), until(`window.scrollY > 4000`))
	h.do("wide again", chromedp.EmulateViewport(1280, 800), until(`document.querySelector("[role=table]")`))
}

func (h *house) device() {
	h.do("one device", chromedp.Navigate(h.path("/devices?text=10.40.1.66")), has("1–2 of 2"), has("cafe till"))
	h.do("its page", press(`(//div[@role="row"]//a[contains(.,"10.40.1.66")])[1]`), has("Another device answers at 10.40.1.66 too"),
		has("The site's own list gives the prefix"))
	h.do("one that answers for others", chromedp.Navigate(h.path("/devices?trait=answers+for+others")), has("1–1 of 1"), press(`//div[@role="row"]//a[contains(.,"10.40.1.8")]`),
		has("One MAC address answers for many addresses"), has("more"))
	h.do("a device with much to say", chromedp.Navigate(h.path("/devices?text=cairn")), has("1–2 of 2"), press(`//a[contains(.,"10.40.1.11")]`), has("Matched by"), has("Quenby Storage"), has("Secure shell"))
	h.page("device")
	h.do("a way to open it", until(`[...document.querySelectorAll("main a")].some((a) => a.href === "ssh://10.40.1.11" && a.innerText === "Secure shell")`), has("630 to 1"))
	h.do("what it was asked in vain", press(`//summary[starts-with(.,"Asked and not answered")]`), has("It does not speak these protocols"), has("bacnet"))
	h.do("asked again", click("Check it now"), has("2 of 2 answered"), until(`[...document.querySelectorAll("[role=status] a")].some((a) => a.innerText === "10.40.1.11")`))
	h.do("a phone", chromedp.EmulateViewport(390, 844), click("Actions"), has("Write a note"), chromedp.KeyEvent("\x1b"), until(`!document.querySelector("[role=dialog]")`))
	h.accessible("a device on a phone")
	h.do("an address from anywhere", press(`//nav[@aria-label="At hand"]//button[@aria-label="Check an address"]`), has("Within the fence"), fill("Address", "192.0.2.7"), confirm("Check"), has("lies outside the networks"),
		fill("Address", "10.40.1.24"), confirm("Check"), has("1 of 1 answered"))
	h.accessible("a check")
	h.do("wide again", click("Cancel"), chromedp.EmulateViewport(1280, 800), until(`document.querySelector("nav[aria-label=Pages]")`))
	h.do("a device that is not there", chromedp.Navigate(h.path("/devices/99999")), has("device 99999: not found"))
}

// changeDevice writes what people say of a device: a note, that it is set aside, and an entry of the register.
func (h *house) changeDevice() {
	h.do("an unmanaged device", chromedp.Navigate(h.path("/devices?text=10.40.1.24")), has("1–1 of 1"), press(`//div[@role="row"]//a[contains(.,"10.40.1.24")]`), has("Add to the register"))
	h.do("a note", click("Write a note"), fill("Text of the note", "behind the potting bench"), click("Save"), has("Change the note"), has("behind the potting bench"))
	h.do("a group", click("Put into a group"), fill("Name of the group", "nursery"), click("Save"), has("Group: nursery"), has("Its life"))
	h.do("no reason", click("Set aside"), has("The device is known, and left out of what nobody manages. It can be undone."), fill("Reason", "the caterer's own"), click("Set it aside"), has("Set aside by administrator"), has("the caterer's own"))
	h.accessible("a device that is set aside")
	h.do("taken back", click("Undo set aside"), until("!document.body.innerText.includes('Set aside by')"), has("No longer set aside"))
	h.do("undone", press(`//li[contains(.,"No longer set aside")]//button`), has("Set aside by administrator"), has("undone by administrator"))
	h.accessible("decisions on a device")
	h.do("taken back again", click("Undo set aside"), until("!document.body.innerText.includes('Set aside by')"))
	h.do("into the register", click("Add to the register"), fill("Location", "nursery"), click("Add"), has("In the register"), chip("managed"), has("nursery"))
}

// mergeDevices says that two devices are one, as far as what would follow, and looks at what a device held.
func (h *house) mergeDevices() {
	number := func(addr string) uint64 {
		list, err := h.Client.Devices(h.t.Context(), h.Site.ID, client.DeviceQuery{Filter: url.Values{"text": {addr}}})
		if err != nil || len(list.Items) != 1 {
			h.t.Fatalf("devices at %s: %+v, %v", addr, list, err)
		}
		return list.Items[0].ID
	}
	desk, other := number("10.40.1.45"), number("10.40.1.46")
	h.do("what it held", chromedp.Navigate(h.path(fmt.Sprintf("/devices/%d", desk))), has("Held"), has("Seen from"))
	h.do("another that contradicts", click("Merge"), has("The older number stays."), fill("Number of the other device", fmt.Sprint(other)), click("Show what follows"), has("speaks against"))
	h.do("despite that", click("Even if something speaks against it"), click("Show what follows"), has("This would follow."), has("10.40.1.46"))
	h.accessible("a merge that is shown")
	h.do("not done", click("Cancel"), until("!document.body.innerText.includes('This would follow.')"))
	h.do("split", chromedp.Navigate(h.path("/devices?trait=answers+for+others")), has("1–1 of 1"), press(`//div[@role="row"]//a[contains(.,"10.40.1.8")]`), click("Split"), has("The rest keeps the number."))
	h.accessible("a device to be split")
	h.do("not split", click("Cancel"), until("!document.body.innerText.includes('The rest keeps the number.')"))
}

// changes looks at what sweeps have found changed, from the menu, by a filter, and from a device.
func (h *house) changes() {
	h.do("changes", click("Changes"), has("appeared"), has("10.40."), until(`document.querySelectorAll("main tbody tr").length === 100`))
	h.page("changes")
	h.do("more of them", click("Show more"), until(`document.querySelectorAll("main tbody tr").length > 100`))
	h.do("compared with another", chromedp.Navigate(h.path("/changes?sweep=2&against=1")), has("Compared with"), has("appeared"))
	h.accessible("two sweeps compared")
	h.do("a group", chromedp.Navigate(h.path("/devices?group=nursery")), has("1–1 of 1"), has("Group: nursery"))
	h.do("none of a kind", chromedp.Navigate(h.path("/changes?kind=moved&sweep=1")), has("No change is known"), has("Sweep 1 only"))
	h.do("of one device", chromedp.Navigate(h.path("/devices?text=10.40.1.24")), has("1–1 of 1"), press(`//div[@role="row"]//a[contains(.,"10.40.1.24")]`), has("Seen"), click("What changed"),
		has("One device only"), until(`[...document.querySelectorAll("main tbody tr")].every((row) => row.innerText.includes("appeared"))`))
}

// responseTimes compares how long devices took, like with like, and goes on to one of them.
func (h *house) responseTimes() {
	h.do("response times", click("Response times"), has("answered by"), until(`document.querySelectorAll("main svg circle").length > 20`))
	h.page("response-times")
	// Those whose lines lose nothing; a question to the one whose line does is lost as often as one sweep in six.
	timed := `["palm house climate", "fern house climate", "seed vault climate", "far climate"].every((name) => [...document.querySelectorAll("main tbody tr")].some((row) => row.innerText.replaceAll("-", " ").includes(name)))`
	h.do("in another protocol, by model", chromedp.Navigate(h.path("/response-times?protocol=bacnet&by=model&order=fastest")), has("By model"), has("Climate 900"),
		until(timed))
	h.do("of one model", press(`//td//button[.="Climate 900"]`), searches("only=Climate"), has("Climate 900 only: show all"), until(timed),
		until(`[...document.querySelectorAll("main tbody tr")].every((row) => row.innerText.includes("Climate 900"))`))
	h.do("a device", press(`(//main//tbody//a)[1]`), has("Where and when"), until(`[...document.querySelectorAll("td")].some(c => c.textContent === "bacnet")`))
}

// findings looks at what is wrong, at what one rule remarks, accepts some of it and takes that back.
func (h *house) findings() {
	h.do("findings", click("Findings"), has("VNC is open without a password."), has("Two devices on one address"))
	h.page("findings")
	h.do("what to do", press(`(//main//tbody//summary)[1]`), has("Because"), has("To do"))
	h.do("of one rule", click("Remote desktop open"), has("open-desktop only: show all"), until(`document.querySelectorAll("main tbody tr").length === 2`))
	h.do("chosen", press(`(//main//tbody//input[@type="checkbox"])[1]`), click("Act on 1 finding"), has("From then on they are open again."))
	h.accessible("findings to be accepted")
	h.do("accepted", fill("Why it is accepted", "on loan until spring"), confirm("Preview"), confirm("Change 1 finding"), has("1 finding changed."), confirm("Close"), until(`document.querySelectorAll("main tbody tr").length === 1`))
	h.do("all of them", click("Act on all 1 …"), fill("Why it is accepted", "as agreed"), confirm("Preview"), confirm("Change 1 finding"), has("1 finding changed."), confirm("Undo"), has("1 change taken back."), confirm("Close"))
	h.do("what is accepted", chromedp.Navigate(h.path("/findings?state=accepted")), has("on loan until spring"))
	h.do("taken back", press(`(//main//tbody//input[@type="checkbox"])[1]`), click("Take acceptance back"), has("Nothing of this kind is wrong"))
	h.do("nothing of a kind", chromedp.Navigate(h.path("/findings?rule=end-of-support")), has("Nothing of this kind is wrong"))
}

// openness looks at which systems can be read, at the devices of one of them, and at those that need a gateway.
func (h *house) openness() {
	h.do("openness", click("Openness"), has("BACnet × "), has("metering"))
	h.page("openness")
	h.do("one system", press(`//td//button[.="metering"]`), searches("system=metering"), has("metering only: show all"), until(`document.querySelectorAll("main table:last-of-type tbody tr").length > 2`))
	h.do("what cannot be read openly", chromedp.Navigate(h.path("/openness?state=own")), until(`[...document.querySelectorAll("main .tag")].some(c => c.innerText === "own")`))
}

// firmware looks at the versions of models, says which one is wanted, and finds the devices that are behind.
func (h *house) firmware() {
	h.do("firmware", click("Firmware"), has("Climate 900"), has("Versions, the newest first"))
	h.page("firmware")
	h.do("want one", press(`//button[@aria-label="Set the version wanted on Climate 900"]`), fill("Version that the site wants", "9.0"), click("Save"), has("9.0"))
	h.do("those behind", press(`//label[contains(., "Only models")]`), searches("behind=yes"), has("Climate 900"), until(`document.querySelectorAll("main tbody tr").length < 5`))
	h.do("the devices of a version", press(`(//main//tbody//tr[contains(., "Climate 900")]//a[contains(@class, "MuiChip-root")])[1]`), searches("firmware="), has("Model: Climate 900"))
}

// searches waits until what is chosen stands in the address.
func searches(part string) action {
	return until(fmt.Sprintf("location.search.includes(%q)", part))
}

// manyAtOnce acts on all that a filter shows, undoes it, and saves the filter.
func (h *house) manyAtOnce() {
	h.do("all that a filter shows", chromedp.Navigate(h.path("/devices?kind=label-printer&network=offices")), has("1–2 of 2"), has("Network: offices"), click("Act on all …"), has("Act on all 2 devices that the filter shows"), confirm("Preview"), has("text: say why"))
	h.do("what would come of it", fill("Reason", "the shop's own"), confirm("Preview"), has("Change 2 devices"), has("the shop's own"))
	h.accessible("a preview")
	h.do("done", confirm("Change 2 devices"), has("2 devices changed."))
	h.do("and undone", confirm("Undo"), has("2 changes taken back."), confirm("Close"), until(`!document.querySelector("[role=dialog]")`))
	h.do("the list of what was done", click("What was done"), has("undone by administrator"), confirm("Close"), until(`!document.querySelector("[role=dialog]")`))
	h.do("a view", click("Views"), press(`//li[contains(.,"Save this filter as a view")]`), fill("Name", "paper"), confirm("Save"), until(`!document.querySelector("[role=dialog]")`))
	h.do("an extract", click("Views"), press(`//li[contains(.,"Save this filter as an extract")]`), fill("Name", "labels"), fill("For whom", "the shop"), confirm("Save"), until(`!document.querySelector("[role=dialog]")`))
	h.do("the view again", chromedp.Navigate(h.path("/devices")), has("Views"), click("Views"), press(`//li[contains(.,"paper")]`), has("1–2 of 2"), has("Network: offices"))
	h.do("deleted", click("Views"), press(`//li[contains(.,"Delete one")]`), press(`//button[@aria-label="Delete paper"]`), has("The devices stay as they are."), press(`//div[@role="dialog"]//button[.="Delete"]`), until(`!document.querySelector('button[aria-label="Delete paper"]')`), confirm("OK"))
}

// drift takes one side where register and observation differ.
func (h *house) drift() {
	list, err := h.Client.Drift(h.t.Context(), h.Site.ID, nil, 0)
	if err != nil {
		h.t.Fatal(err)
	}
	if len(list) > 0 {
		h.t.Fatalf("register and observation differ before anybody has changed them: %+v", list)
	}
	h.do("no drift", click("Drift"), has("Register and observation agree"))
	file := "name,mac,address,vendor,model,kind\nfront desk switch,10:cd:94:09:82:36,10.40.1.2,Ostermoor Networks,Weave 24,printer\n"
	if _, err := h.Client.ImportRegister(h.t.Context(), h.Site.ID, strings.NewReader(file), client.Import{}); err != nil {
		h.t.Fatal(err)
	}
	h.do("a difference", chromedp.Navigate(h.path("/drift")), has("front desk switch"), press(`//input[starts-with(@aria-label,"Select front desk switch")]`), click("Take the observation of 1 line …"), confirm("Preview"), has("Change 1 device"))
	h.page("drift")
	h.do("taken", confirm("Change 1 device"), has("1 device changed."), confirm("Close"), has("Register and observation agree"))
}

// handOver looks at the addresses, at how complete the sweep is, and at the report as it prints.
func (h *house) handOver() {
	h.do("the addresses", click("Addresses"), has("offices 10.40.1.0/24"), has("The same as a table"), has("10.40.1.2"))
	h.page("addresses")
	h.do("how complete it is", click("Completeness"), has("address resolution"), has("nine of ten"))
	h.page("completeness")
	h.do("the report", click("Report"), has("labels"), has("the shop"), until(`document.querySelector("iframe")?.contentDocument?.body?.innerText.includes("Network inventory of")`),
		until(`document.querySelector("iframe").contentDocument.querySelectorAll("script, img").length === 0`), until(`getComputedStyle(document.querySelector("iframe").contentDocument.querySelector("h1")).fontWeight === "600"`))
	h.page("report")
}

// whoIsIt looks at devices that say by their protocols who they are, and finds them by it.
func (h *house) whoIsIt() {
	h.do("a switch", chromedp.Navigate(h.path("/devices?model=Weave+24&sort=address")), has("Weave 24"), has("Model: Weave 24"), press(`(//div[@role="row"]//a[contains(.,"10.40.1.2")])[1]`),
		has("Interfaces (24)"), has("1 Gbit/s"), has("The maker is named by its own agent"), has("front-desk-switch"))
	h.page("device-switch")
	h.do("all its interfaces", click("and 12 more"), has("p24"))
	h.do("a certificate", chromedp.Navigate(h.path("/devices?text=10.40.1.13&kind=hypervisor")), has("1–1 of 1"), press(`//div[@role="row"]//a[contains(.,"10.40.1.13")]`), has("Certificates"), has("pane.fernhollow.example"))
	h.do("other filters", chromedp.Navigate(h.path("/devices")), click("More filters"), press(`//*[@role="dialog"]//div[@role="combobox"]`), press(`//li[@role="option" and .="1,000 to 1"]`))
	h.accessible("more filters")
	h.do("what is sure", click("Show"), has("kind at least 1,000 to 1"), has("printer"), location(fmt.Sprintf("/sites/%d/devices?strength=30", h.Site.ID)))
	h.do("a service", chromedp.Navigate(h.path("/devices?service=_ipp._tcp")), has("1–3 of 3"), has("Service: _ipp._tcp"))
}

// credentials enters one, tries it on devices, and deletes it. What is secret is never shown.
func (h *house) credentials() {
	const community = "stone-and-heron"
	h.do("credentials", click("Credentials"), has("garden read"), has("never shown"))
	h.do("one without a community", click("Add a credential"), fill("Name of the credential", "second"), fill("Community", community))
	h.accessible("enter a credential")
	h.do("entered", confirm("Add"), until(`!document.querySelector("[role=dialog]")`), has("second"), until(`!document.documentElement.innerHTML.includes("`+community+`")`))
	h.page("credentials")
	h.do("one of that name again", click("Add a credential"), fill("Name of the credential", "second"), fill("Community", community), confirm("Add"), has("in use already"), click("Cancel"))
	h.do("tried where it is right", press(`//tr[contains(.,"garden read")]//button[contains(.,"Try it")]`), fill("Address, name or MAC of the device", "10.40.2.20"), click("Try"), has("The device accepts it."), has("snmp.sysDescr"))
	h.accessible("a credential that was taken")
	h.do("tried where there is none", fill("Address, name or MAC of the device", "10.40.1.5"), click("Try"), has("No agent answers there."), click("Cancel"))
	h.do("deleted", press(`//button[@aria-label="Delete second"]`), confirm("Delete"), until(`!document.querySelector("table").innerText.includes("second")`))
}

// rules writes some, is told their faults, tries them, switches them on, and takes them back.
func (h *house) rules() {
	h.do("rules", click("Rules"), has("No rules of the site’s own"), click("Write rules"), fill("Name of the file of rules", "garden"))
	h.do("a fault in them", fill("Rules (YAML)", "rules:\n  - rule: bells\n    because: They ring.\n    when: [{keys: [http.title], words: [threshold]}]\n    says: [{attribute: kind, value: bell, strength: 30}]\n"),
		click("Try them"), has("line 5, column"), has("is not a value of kind"))
	h.do("mended", fill("Rules (YAML)", "rules:\n  - rule: bells\n    because: They ring.\n    when: [{keys: [http.title], words: [threshold]}]\n    says: [{attribute: model, value: Bell, strength: 30}]\n"),
		click("Try them"), has("1 rule would change 3 devices."), has("Bell"))
	h.page("rules-trial")
	h.do("kept", click("Save, disabled"), until(`!document.body.innerText.includes("Try them")`), has("garden"), until(`(s => s && !s.checked)(document.querySelector('input[aria-label="garden is on"]'))`))
	h.do("switched on", press(`//input[@aria-label="garden is on"]`), until(`(s => s.checked && !s.disabled)(document.querySelector('input[aria-label="garden is on"]'))`), chromedp.Navigate(h.path("/devices?model=Bell")), has("1–3 of 3"))
	h.do("taken back", click("Rules"), press(`//button[@aria-label="Delete garden"]`), confirm("Delete"), has("No rules of the site’s own"), chromedp.Navigate(h.path("/devices?model=Bell")), has("No device is like this"))
}

// hostileDevices looks at devices that try to be more than text on the page.
func (h *house) hostileDevices() {
	for _, name := range []string{"10.40.1.160", "10.40.1.161", "10.40.1.162", "10.40.1.164"} {
		h.do("a hostile device", chromedp.Navigate(h.path("/devices?text="+name)), has("1–1 of 1"), press(`//div[@role="row"]//a[contains(.,"`+name+`")]`), has("Ports and banners"))
		h.do("it stays text", until(`document.title.endsWith(" – Airdrift")`), until(`!document.querySelector("main script, main b, main img[src=x]")`),
			until(`!/[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u202a-\u202e]/.test(document.querySelector("main").innerText)`))
	}
}

func (h *house) discardSweep() {
	sweep, err := h.Client.StartSweep(h.t.Context(), h.Site.ID, api.NewSweep{Ranges: "10.40.1.2", Pace: "brisk"})
	if err != nil {
		h.t.Fatal(err)
	}
	h.do("a sweep made by mistake", chromedp.Navigate(h.path(fmt.Sprintf("/sweeps/%d", sweep.ID))), has("1 of 1 address answered"), click("Discard"), has("This cannot be taken back."))
	h.accessible("discard")
	h.do("discarding it", click("Discard it"), location(fmt.Sprintf("/sites/%d/sweeps", h.Site.ID)))
	if _, err := h.Client.Sweep(h.t.Context(), sweep.ID); err == nil {
		h.t.Error("the sweep is still there")
	}
}

func (h *house) users() {
	h.do("users", click("Users"), has("administrator"), has("discard-sweep"))
	h.do("a password too short", click("Add a user"), fill("User’s name", "mason"), fill("User’s password", "short"), click("Add"), has("want at least 10 characters"))
	h.accessible("enter a user")
	h.do("a user", fill("User’s password", "over the garden wall"), click("Add"), has("mason"), has("create-user"))
	h.page("users")
	h.do("the last administrator", press(`//button[@aria-label="Delete administrator"]`), has("what the user has said of devices stays"), confirm("Cancel"), until(`!document.querySelector("[role=dialog]")`),
		press(`//button[@aria-label="Delete administrator"]`), confirm("Delete"), has("administrator is the last administrator"))
	h.do("one's own account", press(`//a[starts-with(@aria-label,"administrator, who may")]`), has("Tokens for the command line"))
	h.do("a token", fill("What it is for", "the laptop"), click("Make a token"), has("told this once"))
	h.page("account")
}

// shown gives the part of the page's text that a regular expression of JavaScript finds.
func (h *house) shown(pattern string) string {
	h.t.Helper()
	found, err := chromedp.Run(h.browser, chromedp.Evaluate[string](fmt.Sprintf("(document.body.innerText.match(%s) ?? [''])[0]", pattern)))
	if err != nil || found == "" {
		h.t.Fatalf("the page shows nothing like %s: %v", pattern, err)
	}
	return found
}

// secondFactor sets one up, signs in with it, and turns it off again.
func (h *house) secondFactor() {
	h.do("begun with a wrong password", fill("Password", "guess"), click("Set up a second factor"), has("the present password is not right"))
	h.do("begun", fill("Password", h.Password), click("Set up a second factor"), has("Code it shows"))
	h.page("second-factor")
	code, err := totp.GenerateCode(h.shown(`/\b[A-Z2-7]{32}\b/`), time.Now())
	if err != nil {
		h.t.Fatal(err)
	}
	h.do("turned on", fill("Code it shows", code), click("Turn it on"), has("Keep these recovery codes"))
	h.accessible("recovery codes")
	first, last := h.shown(`/\b[a-z2-7]{4}(-[a-z2-7]{4}){3}\b/`), h.shown(`/\b[a-z2-7]{4}(-[a-z2-7]{4}){3}\b(?![\s\S]*\b[a-z2-7]{4}(-[a-z2-7]{4}){3}\b)/`)
	h.do("kept", click("I have kept them"), has("A code of your authenticator is asked for when you sign in."))
	h.do("in again", press(`//button[@aria-label="Sign out"]`), has("Sign in"), fill("Name", "administrator"), fill("Password", h.Password), click("Sign in"), has("Six digits of your authenticator"))
	h.accessible("sign-in with a code")
	h.do("a wrong code", fill("Code", "123456"), click("Sign in"), has("the code is not right"))
	h.do("a recovery code", fill("Code", first), click("Sign in"), has("nobody manages"))
	h.do("off again", press(`//a[starts-with(@aria-label,"administrator, who may")]`), has("A code of your authenticator"), fill("Password", h.Password), fill("Code", last), click("Turn it off"), has("Set up a second factor"))
}

// lookOnly signs in as somebody who may only look: what changes things is not offered.
func (h *house) lookOnly() {
	h.do("out and in again", press(`//button[@aria-label="Sign out"]`), has("Sign in"), fill("Name", "mason"), fill("Password", "over the garden wall"), click("Sign in"), has("nobody manages"))
	h.do("no sweep to start", until(`!document.body.innerText.includes("Start a sweep")`), until(`!document.querySelector("nav").innerText.includes("Users")`))
	h.do("no change of the fence", click("Fence"), has("Changing the fence needs the role administer."), until(`!document.body.innerText.includes("Add the network")`))
	h.do("the page of users", chromedp.Navigate(h.path("/users")), has("your role is look, and this needs administer"))
}

func (h *house) signOut() {
	h.do("signing out", press(`//button[@aria-label="Sign out"]`), has("The first user is administrator"))
	h.do("a page afterwards", chromedp.Navigate(h.path("/devices")), has("Sign in"))
}

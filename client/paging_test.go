package client

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"testing"

	"airdrift/api"
)

// pages serves a list of so many sweeps by the page, and notes how many each request asked for.
func pages(t *testing.T, many int) (*Client, *[]int) {
	t.Helper()
	asked := &[]int{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		from, _ := strconv.Atoi(r.URL.Query().Get("cursor"))
		limit, err := strconv.Atoi(r.URL.Query().Get("limit"))
		if err != nil || limit < 1 || limit > largestPage {
			t.Errorf("asked for %q items", r.URL.Query().Get("limit"))
		}
		*asked = append(*asked, limit)
		page := api.List[api.Sweep]{Items: []api.Sweep{}}
		for n := from; n < min(from+limit, many); n++ {
			page.Items = append(page.Items, api.Sweep{ID: uint64(n + 1)})
		}
		if from+limit < many {
			page.Next = strconv.Itoa(from + limit)
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(page)
	}))
	t.Cleanup(server.Close)
	return Over(server.Client(), server.URL, ""), asked
}

// A list is given to its end, however many pages it has, and in order.
func TestListsGoToTheirEnd(t *testing.T) {
	for _, many := range []int{0, 1, largestPage, largestPage + 1, 3*largestPage + 7} {
		c, asked := pages(t, many)
		list, err := c.Sweeps(t.Context(), 1)
		if err != nil || len(list) != many {
			t.Errorf("of %d sweeps %d came in %d pages, %v", many, len(list), len(*asked), err)
		}
		for i, s := range list {
			if s.ID != uint64(i+1) {
				t.Fatalf("sweep %d stands at place %d", s.ID, i)
			}
		}
	}
}

// A list of which somebody wants a few asks for no more than these; 0 means all.
func TestListsEndWhereSomebodyWantsNoMore(t *testing.T) {
	for most, want := range map[int]int{0: 2500, -1: 2500, 1: 1, 10: 10, 1000: 1000, 1001: 1001, 9999: 2500} {
		c, asked := pages(t, 2500)
		list, err := first[api.Sweep](t.Context(), c, "/api/v1/sites/1/sweeps", nil, most)
		if err != nil || len(list) != want {
			t.Errorf("at most %d gave %d, %v", most, len(list), err)
		}
		wanted := 0
		for _, n := range *asked {
			wanted += n
		}
		if most > 0 && wanted > most {
			t.Errorf("at most %d asked for %d", most, wanted)
		}
	}
}

// A page that fails in the middle gives no half list.
func TestHalfAListIsNone(t *testing.T) {
	requests := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if requests++; requests > 1 {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusForbidden)
			fmt.Fprint(w, `{"status":403,"detail":"signed out meanwhile"}`)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, `{"items":[{"id":1}],"next":"2"}`)
	}))
	defer server.Close()
	if list, err := Over(server.Client(), server.URL, "").Sweeps(t.Context(), 1); err == nil || list != nil {
		t.Errorf("half a list was given: %v, %v", list, err)
	}
}

// The slowest few are asked for as such, and without a number all there are.
func TestTimesAreAskedForWhole(t *testing.T) {
	c, last := serve(t, 200, "application/json", `{"devices":[],"protocols":[]}`)
	for most, want := range map[int]string{0: strconv.Itoa(everyDevice), 5: "5"} {
		if _, err := c.ResponseTimes(t.Context(), 3, TimesQuery{Protocol: "bacnet", Fastest: true}, most); err != nil {
			t.Fatal(err)
		}
		if q := last.URL.Query(); q.Get("limit") != want || q.Get("protocol") != "bacnet" || q.Get("order") != "fastest" {
			t.Errorf("at most %d asked for %s", most, last.URL)
		}
	}
}

// Where a site is, and how an import is meant, goes out as it was said.
func TestSettingsOfASiteAreSent(t *testing.T) {
	c, last := serve(t, 200, "application/json", `{"id":7,"name":"Fernhollow","zone":"Europe/Lisbon"}`)
	site, err := c.SetZone(t.Context(), 7, "Europe/Lisbon")
	if err != nil || site.Zone != "Europe/Lisbon" || last.Method != http.MethodPut || last.URL.Path != "/api/v1/sites/7/zone" {
		t.Errorf("%s %s gave %+v, %v", last.Method, last.URL, site, err)
	}
	var said api.Zone
	if err := json.NewDecoder(last.Body).Decode(&said); err != nil || said.Zone != "Europe/Lisbon" {
		t.Errorf("sent %+v, %v", said, err)
	}
}

package command

import (
	"bytes"
	"context"
	"errors"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/urfave/cli/v3"

	"airdrift/api"
)

// What is watched is drawn at once, then at intervals, and stays with the failure above it while the service does not answer.
func TestWatchedIsKeptUpToDate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		var out bytes.Buffer
		var drawn []string
		reads := 0
		err := every(ctx, time.Second, func() screen { return screen{&out, 80, 6} }, func() (string, string, error) {
			drawn = append(drawn, out.String())
			out.Reset()
			switch reads++; reads {
			case 1:
				return "first", "a\nb\nc\nd\ne\nf\n", nil
			case 2:
				return "", "", errors.New("no\x1b[2Jbody answers")
			case 3:
				cancel()
			}
			return "third", "", nil
		})
		if !errors.Is(err, context.Canceled) || len(drawn) != 3 {
			t.Fatalf("%d drawings, %v", len(drawn), err)
		}
		if first := drawn[1]; !strings.HasPrefix(first, toTop+"first"+restOfLine+"a"+restOfLine) || !strings.Contains(first, "and 3 lines more") || strings.Contains(first, "d"+restOfLine) || strings.Count(first, restOfLine) != 5 {
			t.Errorf("the first drawing is %q", first)
		}
		if second := drawn[2]; !strings.Contains(second, "What is shown may be old: no\\x1b[2Jbody answers") || !strings.Contains(second, "a"+restOfLine) {
			t.Errorf("while nobody answers there is %q", second)
		}
	})
}

func TestWatchingThatCannotBegin(t *testing.T) {
	failure := errors.New("no such site")
	err := every(t.Context(), time.Second, func() screen { return screen{} }, func() (string, string, error) { return "", "", failure })
	if !errors.Is(err, failure) {
		t.Errorf("the first reading failed, and it went on: %v", err)
	}
	var use cli.ExitCoder
	if err := (Program{Out: &bytes.Buffer{}}).onScreen(t.Context(), nil); err == nil || errors.As(err, &use) && use.ExitCode() != 2 {
		t.Errorf("a file is watched: %v", err)
	}
}

// Of somebody who is told again there is the latest alone, and no more than there is room for.
func TestLatestSightings(t *testing.T) {
	var seen []api.Sighting
	for _, s := range []api.Sighting{{Addr: "10.40.1.1"}, {Addr: "10.40.1.2"}, {Addr: "10.40.1.1", Kind: "router"}, {Addr: "10.40.1.3"}, {Addr: "10.40.1.3", Unit: "modbus/2"}} {
		seen = latest(seen, s, 3)
	}
	if len(seen) != 3 || seen[0].Kind != "router" || seen[2].Unit != "modbus/2" {
		t.Errorf("the latest are %+v", seen)
	}
}

// Words that mean something have a colour in the columns that have such words, and nowhere else; the table is as wide as without.
func TestColourByMeaning(t *testing.T) {
	g := grid{headings: []string{"Name", "Standing"}}
	g.add("missing", "missing")
	g.add("oak", "managed")
	plain, painted := tableText(g, 60, false), tableText(g, 60, true)
	if strings.Contains(plain, "\x1b") || strings.Count(painted, "\x1b[31m") != 1 || strings.Count(painted, "\x1b[32m") != 1 {
		t.Errorf("painted:\n%q", painted)
	}
	clean := strings.NewReplacer("\x1b[31m", "", "\x1b[32m", "", "\x1b[0m", "").Replace(painted)
	if clean != plain {
		t.Errorf("without its colours it is\n%s\nwant\n%s", clean, plain)
	}
	if colourful(&bytes.Buffer{}) {
		t.Error("a file has colours")
	}
}

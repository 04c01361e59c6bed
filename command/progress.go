package command

import (
	"fmt"
	"io"
	"time"

	"github.com/schollz/progressbar/v3"

	"airdrift/api"
)

// barTheme is made of characters that every terminal font has.
var barTheme = progressbar.Theme{Saucer: "━", SaucerHead: "━", SaucerPadding: "┈", BarStart: " ", BarEnd: " "}

// progressLine shows how far a sweep is: one line that changes on a terminal, a line for each stage elsewhere.
type progressLine struct {
	w     io.Writer
	bar   *progressbar.ProgressBar // nil where w is no terminal, and before the first progress
	live  bool
	stage string
	last  api.Progress
}

func newProgressLine(w io.Writer) *progressLine {
	return &progressLine{w: w, live: isTerminal(w)}
}

func (l *progressLine) progress(p api.Progress) {
	if p.Stage != l.stage {
		l.endStage()
		l.stage = p.Stage
		if l.live {
			l.bar = progressbar.NewOptions64(int64(p.Total), progressbar.OptionSetWriter(l.w), progressbar.OptionSetWidth(24),
				progressbar.OptionSetPredictTime(false), progressbar.OptionSetTheme(barTheme), progressbar.OptionThrottle(100*time.Millisecond))
		}
	}
	l.last = p
	if l.bar == nil {
		return
	}
	l.bar.ChangeMax64(max(int64(p.Total), 1))
	l.bar.Describe(describe(p))
	_ = l.bar.Set64(int64(p.Done)) // what the terminal does not take is lost
}

func describe(p api.Progress) string {
	left := (time.Duration(p.Seconds) * time.Second).String()
	return fmt.Sprintf("%-9s  found %d  %.0f/s  left %s ", p.Stage, p.Found, p.Rate, left)
}

// say writes a line beside the progress.
func (l *progressLine) say(text string) {
	if l.bar != nil {
		_ = l.bar.Clear()
	}
	fmt.Fprintln(l.w, visible(text, false))
}

func (l *progressLine) endStage() {
	switch {
	case l.bar != nil:
		_ = l.bar.Set64(int64(l.last.Done))
		fmt.Fprintln(l.w)
		l.bar = nil
	case l.stage != "":
		fmt.Fprintf(l.w, "%s: %d of %d questions settled, %d found\n", l.stage, l.last.Done, l.last.Total, l.last.Found)
	}
}

func (l *progressLine) end() {
	l.endStage()
	l.stage = ""
}

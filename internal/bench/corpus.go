package main

import (
	"fmt"

	"airdrift/core/identify"
	"airdrift/core/identify/corpus"
)

// tellCorpus prints how well the corpus is told, each half by itself: the figures to quote are those of the half that is held
// back.
func tellCorpus() error {
	cases, err := corpus.Load()
	if err != nil {
		return err
	}
	engine := identify.New(identify.Default(), nil)
	for _, half := range []struct {
		name string
		held bool
	}{{"held back", true}, {"to write rules by", false}} {
		result := corpus.Measure(engine, cases, func(c corpus.Case) bool { return c.Held() == half.held })
		fmt.Printf("\n%s: %d of %d cases, %d rules\n", half.name, result.Cases, len(cases), len(identify.Default().All()))
		fmt.Printf("  %-13s %9s %9s %9s   %s\n", "", "precision", "recall", "unknown", "right, wrong, unknown though it could be told, rightly unknown")
		for _, attribute := range identify.Attributes {
			if score := result.Scores[attribute]; score != nil {
				tellScore(string(attribute), *score)
			}
		}
		tellScore("all", result.All())
		for _, family := range corpus.Families() {
			if score := result.Families[family]; score != nil {
				tellScore("  "+family, *score)
			}
		}
		fmt.Println("  strength   promised     right   claims")
		for _, b := range result.Calibration {
			if b.Claims > 0 {
				fmt.Printf("  %2d to %-4s %9.3f %9.3f %8d\n", b.From, upTo(b.To), b.Promised/float64(b.Claims), float64(b.Right)/float64(b.Claims), b.Claims)
			}
		}
		if half.held {
			continue // who reads what is wrong here would write rules by it
		}
		for _, wrong := range result.Wrong {
			fmt.Println("  wrong:", wrong)
		}
		for _, unknown := range result.Unknown {
			fmt.Println("  open: ", unknown)
		}
	}
	return nil
}

func upTo(decibans int) string {
	if decibans > 100 {
		return "more"
	}
	return fmt.Sprint(decibans - 1)
}

func tellScore(name string, s corpus.Score) {
	fmt.Printf("  %-13s %9.3f %9.3f %9.3f   %d, %d, %d, %d\n", name, s.Precision(), s.Recall(), s.UnknownShare(), s.Right, s.Wrong, s.Unknown, s.Silent)
}

// ofCorpus is a figure over all attributes on the half that is held back: an engine that says nothing is never wrong, so that it is held to both.
func ofCorpus(figure func(corpus.Score) float64) func() (float64, error) {
	return func() (float64, error) {
		cases, err := corpus.Load()
		if err != nil {
			return 0, err
		}
		return figure(corpus.Measure(identify.New(identify.Default(), nil), cases, corpus.Case.Held).All()), nil
	}
}

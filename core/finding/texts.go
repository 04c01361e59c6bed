package finding

import (
	"fmt"
	"strings"

	"airdrift/core/wording"
)

// TextOf gives the text of a rule, of the site's own ones too; ok is false where there is none.
func TextOf(language, rule string, own []OwnRule) (text wording.Rule, ok bool) {
	for _, r := range own {
		if r.ID == rule {
			return wording.Rule{Title: r.Title, Says: r.Title + ".", Because: r.Because, Do: r.Do}, true
		}
	}
	text, ok = wording.In(language).Rules[rule]
	return text, ok
}

// Said gives a remark in words: its title, and what is so.
func (r Remark) Said(language string, own []OwnRule) (title, says string) {
	text, ok := TextOf(language, r.Rule, own)
	if !ok { // of a rule that the site has deleted since
		return r.Rule, strings.TrimSpace(fmt.Sprintf("%s %s", r.Rule, r.About))
	}
	return text.Title, wording.Fill(text.Says, r.Values)
}

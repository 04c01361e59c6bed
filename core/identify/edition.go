package identify

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"runtime/debug"

	"airdrift/core/registry"
)

// Edition tells engines apart that may tell different things of the same facts: by the rules, the site's own prefixes, and the program.
func (e *Engine) Edition() string { return e.edition() }

func editionOf(rules *Rules, overlay *registry.Table) string {
	hash := sha256.New()
	out := json.NewEncoder(hash)
	_ = out.Encode(rules.All()) // plain fields, into a hash: neither fails
	_ = out.Encode([][]byte{vendorFile, familyFile, shareFile})
	if overlay != nil {
		_ = out.Encode(overlay.Rows())
	}
	if build, ok := debug.ReadBuildInfo(); ok {
		for _, setting := range build.Settings {
			if setting.Key == "vcs.revision" || setting.Key == "vcs.time" {
				_ = out.Encode(setting.Value)
			}
		}
	}
	return hex.EncodeToString(hash.Sum(nil)[:8])
}

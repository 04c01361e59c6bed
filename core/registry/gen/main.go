// Command gen makes the compact table of MAC prefixes that core/registry embeds, from the npm package oui-data, a
// daily copy of the public listings of the IEEE Registration Authority.
package main

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"os"
	"slices"
	"strings"
)

func main() {
	source := flag.String("source", "", "index.json of the package oui-data")
	target := flag.String("target", "data/mac_prefixes.tsv.gz", "file to write")
	flag.Parse()
	if err := run(*source, *target); err != nil {
		log.Fatal(err)
	}
}

func run(source, target string) error {
	text, err := os.ReadFile(source)
	if err != nil {
		return fmt.Errorf("%w (make registry fetches it)", err)
	}
	var listed map[string]string
	if err := json.Unmarshal(text, &listed); err != nil {
		return fmt.Errorf("%s: %w", source, err)
	}
	table, err := compact(listed)
	if err != nil {
		return err
	}
	return os.WriteFile(target, table, 0o644)
}

// compact writes "prefix TAB organisation" lines in order of prefix, compressed. Sorting by prefix puts the small
// blocks behind the large one they are cut from.
func compact(listed map[string]string) ([]byte, error) {
	var out bytes.Buffer
	zip, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	prefixes := make([]string, 0, len(listed))
	for prefix := range listed {
		prefixes = append(prefixes, prefix)
	}
	slices.Sort(prefixes)
	for _, prefix := range prefixes {
		if n := len(prefix); n != 6 && n != 7 && n != 9 {
			return nil, fmt.Errorf("prefix %q has %d digits, want 6, 7 or 9", prefix, n)
		}
		name, _, _ := strings.Cut(listed[prefix], "\n")
		fmt.Fprintf(zip, "%s\t%s\n", strings.ToLower(prefix), strings.Join(strings.Fields(name), " "))
	}
	if err := zip.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

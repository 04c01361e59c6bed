// Command gen makes the compact tables that core/registry embeds: of MAC prefixes, from the npm package oui-data, a daily copy of
// the public listings of the IEEE Registration Authority; and of private enterprise numbers, from IANA's own list.
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
	enterprises := flag.Bool("enterprises", false, "the source is IANA's enterprise-numbers.txt")
	flag.Parse()
	write := run
	if *enterprises {
		write = runEnterprises
	}
	if err := write(*source, *target); err != nil {
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

func runEnterprises(source, target string) error {
	text, err := os.ReadFile(source)
	if err != nil {
		return err
	}
	table, err := compactEnterprises(text)
	if err != nil {
		return err
	}
	return os.WriteFile(target, table, 0o644)
}

// compactEnterprises writes "number TAB organisation" lines in the order of the list, compressed. In the list a number stands at
// the beginning of a line, and the organisation on the next, two spaces in.
func compactEnterprises(list []byte) ([]byte, error) {
	var out bytes.Buffer
	zip, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	number := ""
	for line := range strings.Lines(string(list)) {
		name := strings.TrimSpace(line)
		switch {
		case name == "":
		case line[0] >= '0' && line[0] <= '9':
			number = name
		case number != "" && strings.HasPrefix(line, "  ") && line[2] != ' ':
			fmt.Fprintf(zip, "%s\t%s\n", number, strings.Join(strings.Fields(strings.ToValidUTF8(name, "")), " "))
			number = ""
		}
	}
	if err := zip.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
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

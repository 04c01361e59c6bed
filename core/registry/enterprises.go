package registry

import (
	"bufio"
	"bytes"
	"compress/gzip"
	_ "embed"
	"strconv"
	"strings"
	"sync"
)

// EnterprisesSource is where the embedded list of enterprise numbers comes from.
const EnterprisesSource = "IANA Private Enterprise Numbers of 2024-05-16, from Debian's ipmitool"

//go:generate go run ./gen -enterprises -source /usr/share/misc/enterprise-numbers.txt -target data/enterprises.tsv.gz

//go:embed data/enterprises.tsv.gz
var enterprisesPacked []byte

// Enterprise gives the organisation that IANA has given a private enterprise number to (RFC 2578, 3.1.1, enterprises), as it is
// registered; "" where it has given it to nobody.
func Enterprise(number uint32) string { return enterprises()[number] }

// Enterprises gives how many numbers are known.
func Enterprises() int { return len(enterprises()) }

// enterprises is the embedded list; it is unpacked once, when it is first asked for.
var enterprises = sync.OnceValue(func() map[uint32]string {
	list, err := unpackEnterprises(enterprisesPacked)
	if err != nil {
		panic("registry: the embedded list of enterprises is broken: " + err.Error())
	}
	return list
})

func unpackEnterprises(data []byte) (map[uint32]string, error) {
	zip, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	list := map[uint32]string{}
	lines := bufio.NewScanner(zip)
	for lines.Scan() {
		digits, name, _ := strings.Cut(lines.Text(), "\t")
		number, err := strconv.ParseUint(digits, 10, 32)
		if err != nil {
			return nil, err
		}
		if name != "Reserved" && name != "Unassigned" && name != "---none---" {
			list[uint32(number)] = name
		}
	}
	return list, lines.Err()
}

package probe

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyUPSProgram  = "ups.program"
	keyUPSAttached = "ups.attached"
	keyUPSMaker    = "ups.maker"
	keyUPSModel    = "ups.model"
	keyUPSSerial   = "ups.serial"
	keyUPSFirmware = "ups.firmware"
	keyUPSType     = "ups.type"
)

const upsPort = 3493

var _ = register(Protocol{
	Name: "ups", Source: evidence.SourceUPS, Cost: Light,
	Ports: []uint16{upsPort}, Telling: []uint16{upsPort}, Talk: talkUPS,
	Facts: []evidence.Fact{
		{Key: keyUPSProgram, Says: "program that manages power supplies", Standard: "RFC 9271, 4.2.15", Example: "power manager 2.8"},
		{Key: keyUPSAttached, Says: "a power supply that it manages", Standard: "RFC 9271, 4.2.7.5", Example: "rack: server room"},
		{Key: keyUPSMaker, Says: "maker of a power supply", Standard: "RFC 9271, 5.1", Example: "Hartsedge Power", Names: 13},
		{Key: keyUPSModel, Says: "model of a power supply", Standard: "RFC 9271, 5.1", Example: "Ballast 3000", Describes: true},
		{Key: keyUPSSerial, Says: "serial number of a power supply", Standard: "RFC 9271, 5.1", Example: "E7J0000001"},
		{Key: keyUPSFirmware, Says: "firmware of a power supply", Standard: "RFC 9271, 5.2", Example: "1.4"},
		{Key: keyUPSType, Says: "what a managed device is", Standard: "RFC 9271, 5.1", Example: "ups"},
	},
})

const (
	maxUPSUnits = 8
	maxUPSLines = 512 // of one list
	upsTime     = 12 * time.Second
)

// upsVariables are the variables that tell what a power supply is, with the keys of their facts (RFC 9271, 5). What the device says goes before what
// its driver says of it as a power supply.
var upsVariables = []struct{ name, key string }{
	{"device.mfr", keyUPSMaker}, {"device.model", keyUPSModel}, {"device.serial", keyUPSSerial}, {"device.type", keyUPSType},
	{"ups.mfr", keyUPSMaker}, {"ups.model", keyUPSModel}, {"ups.serial", keyUPSSerial}, {"ups.firmware", keyUPSFirmware},
}

// talkUPS asks what power supplies are managed, and what they are; they have no address of their own. Nobody signs in.
func talkUPS(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	_ = conn.SetDeadline(time.Now().Add(2 * greetingWait))
	reader := bufio.NewReader(io.LimitReader(conn, 4*maxAnswer))
	say := func(command string) (first string) {
		if _, err := io.WriteString(conn, command+"\n"); err != nil {
			return ""
		}
		return readLine(reader)
	}
	list := func(what string) (lines []string) {
		if say("LIST "+what) != "BEGIN LIST "+what {
			return nil
		}
		for range maxUPSLines {
			line := readLine(reader)
			if line == "" || strings.HasPrefix(line, "END LIST") || strings.HasPrefix(line, "ERR") {
				return lines
			}
			lines = append(lines, line)
		}
		return lines
	}
	program := say("VER")
	if program == "" {
		return
	}
	_ = conn.SetDeadline(time.Now().Add(upsTime))
	supplies := list("UPS")
	f.add(evidence.SourceUPS, keyUPSProgram, []byte(program))
	for n, line := range supplies {
		words := upsWords(line)
		if n == maxUPSUnits {
			break
		}
		if len(words) < 2 || words[0] != "UPS" || words[1] == "" || strings.ContainsFunc(words[1], func(r rune) bool { return r <= ' ' || r == '"' }) {
			continue
		}
		name, about := words[1], ""
		if len(words) > 2 {
			about = words[2]
		}
		f.add(evidence.SourceUPS, keyUPSAttached, fmt.Appendf(nil, "%s: %s", name, about))
		unit := &found{port: f.port}
		readUPS(list("VAR "+name), unit)
		if f.unit != nil && len(unit.items) > 0 {
			f.unit("ups/"+name, unit.items)
		}
	}
	_, _ = io.WriteString(conn, "LOGOUT\n") // a courtesy; we are going anyway
}

// readUPS reads a list of variables.
func readUPS(lines []string, f *found) {
	values := map[string]string{}
	for _, line := range lines {
		if words := upsWords(line); len(words) == 4 && words[0] == "VAR" {
			values[words[2]] = strings.TrimSpace(words[3])
		}
	}
	told := map[string]bool{}
	for _, v := range upsVariables {
		if value := values[v.name]; value != "" && !told[v.key] {
			told[v.key] = true
			f.add(evidence.SourceUPS, v.key, []byte(value))
		}
	}
}

// upsWords cuts a line into its words; those in quotation marks may have spaces, and marks behind a backslash (RFC 9271, 4.1).
func upsWords(line string) []string {
	var words []string
	for line = strings.TrimLeft(line, " "); line != ""; line = strings.TrimLeft(line, " ") {
		if line[0] != '"' {
			word, rest, _ := strings.Cut(line, " ")
			words, line = append(words, word), rest
			continue
		}
		var word strings.Builder
		at := 1
		for ; at < len(line) && line[at] != '"'; at++ {
			if line[at] == '\\' && at+1 < len(line) {
				at++
			}
			word.WriteByte(line[at])
		}
		words, line = append(words, word.String()), line[min(len(line), at+1):]
	}
	return words
}

package probe

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/gosnmp/gosnmp"

	"airdrift/core/evidence"
)

// column is one column of a table, by the index of each row.
type column map[string]gosnmp.SnmpPDU

// perAnswer is how many values one answer is asked to hold; more would not fit the frames of small agents.
const perAnswer = 40

// table reads columns of one table side by side, so that a slow agent is asked few times.
func (a *agent) table(entry string, numbers ...int) []column {
	roots := make([]string, len(numbers))
	columns := make([]column, len(numbers))
	for i, n := range numbers {
		roots[i], columns[i] = entry+"."+strconv.Itoa(n), column{}
	}
	if a.session.Version == gosnmp.Version1 {
		for i, root := range roots {
			a.walk(root, columns[i])
		}
		return columns
	}
	at := slices.Clone(roots)
	open := make([]int, len(roots)) // the columns that are not at their end
	for i := range open {
		open[i] = i
	}
	for len(open) > 0 && !a.full() {
		asked := make([]string, len(open))
		for i, c := range open {
			asked[i] = at[c]
		}
		packet, err := a.session.GetBulk(asked, 0, uint32(max(1, perAnswer/len(open))))
		if err != nil || packet.Error != gosnmp.NoError {
			break
		}
		open = a.takeRows(packet.Variables, open, roots, at, columns)
	}
	return columns
}

// takeRows takes in an answer of which values belong to the open columns in turn, and gives the columns that go on.
func (a *agent) takeRows(values []gosnmp.SnmpPDU, open []int, roots, at []string, columns []column) (goOn []int) {
	ended, moved := map[int]bool{}, map[int]bool{}
	for i, pdu := range values {
		c := open[i%len(open)]
		switch {
		case ended[c]:
		case !present(pdu) || !strings.HasPrefix(pdu.Name, roots[c]+"."):
			ended[c] = true
		case compareOID(pdu.Name, at[c]) <= 0:
			a.cut("loop")
			ended[c] = true
		case len(columns[c]) >= maxRows:
			a.cut("rows")
			ended[c] = true
		default:
			a.values++
			columns[c][strings.TrimPrefix(pdu.Name, roots[c]+".")] = pdu
			at[c], moved[c] = pdu.Name, true
		}
	}
	for _, c := range open {
		if moved[c] && !ended[c] {
			goOn = append(goOn, c)
		}
	}
	return goOn
}

// full reports whether as much has been read of the agent as is read of one.
func (a *agent) full() bool {
	if a.values < maxVariables && a.session.Context.Err() == nil && !a.spent() {
		return false
	}
	a.cut("time or size")
	return true
}

// compareOID orders object identifiers in dots; what is no number comes first.
func compareOID(x, y string) int {
	for x != "" || y != "" {
		var left, right string
		left, x, _ = strings.Cut(strings.TrimPrefix(x, "."), ".")
		right, y, _ = strings.Cut(strings.TrimPrefix(y, "."), ".")
		if left != right {
			return byIndex(left, right)
		}
	}
	return 0
}

var errEnough = errors.New("enough has been read")

// walk reads one column of an agent of version 1, row by row.
func (a *agent) walk(root string, rows column) {
	err := a.session.Walk(root, func(pdu gosnmp.SnmpPDU) error {
		if len(rows) >= maxRows || a.full() {
			return errEnough
		}
		a.values++
		rows[strings.TrimPrefix(pdu.Name, root+".")] = pdu
		return nil
	})
	switch {
	case errors.Is(err, errEnough):
		a.cut("rows")
	case err != nil && strings.Contains(err.Error(), "not increasing"):
		a.cut("loop")
	}
}

// cut notes that an agent was not read to its end, and why.
func (a *agent) cut(why string) {
	if a.bounded == nil {
		a.bounded = map[string]bool{}
	}
	if !a.bounded[why] {
		a.bounded[why] = true
		a.note(evidence.KeySNMPBounded, why)
	}
}

// get asks for single objects and gives those that are there. In version 1 each is asked alone, as one that is missing fails
// the whole question.
func get(session *gosnmp.GoSNMP, oids []string) ([]gosnmp.SnmpPDU, error) {
	if session.Version != gosnmp.Version1 {
		packet, err := session.Get(oids)
		if err != nil {
			return nil, err
		}
		return slices.DeleteFunc(packet.Variables, func(p gosnmp.SnmpPDU) bool { return !present(p) || !slices.Contains(oids, p.Name) }), nil
	}
	var all []gosnmp.SnmpPDU
	for i, oid := range oids {
		packet, err := session.Get([]string{oid})
		if err != nil {
			if i == 0 {
				return nil, err
			}
			break
		}
		if packet.Error == gosnmp.NoError && len(packet.Variables) == 1 && packet.Variables[0].Name == oid && present(packet.Variables[0]) {
			all = append(all, packet.Variables[0])
		}
	}
	return all, nil
}

func present(pdu gosnmp.SnmpPDU) bool {
	switch pdu.Type {
	case gosnmp.NoSuchObject, gosnmp.NoSuchInstance, gosnmp.EndOfMibView, gosnmp.Null, gosnmp.UnknownType:
		return false
	}
	return true
}

func bytesOf(pdu gosnmp.SnmpPDU) []byte {
	switch v := pdu.Value.(type) {
	case []byte:
		return v
	case string:
		return []byte(v)
	}
	return nil
}

// text gives an octet string, an object identifier or a number as text.
func text(pdu gosnmp.SnmpPDU) string {
	if b := bytesOf(pdu); b != nil {
		return strings.Join(strings.Fields(string(b)), " ")
	}
	if pdu.Value == nil {
		return ""
	}
	return fmt.Sprint(pdu.Value)
}

// number gives a value that counts; 0 where it is none.
func number(pdu gosnmp.SnmpPDU) uint64 {
	switch pdu.Type {
	case gosnmp.Integer, gosnmp.Counter32, gosnmp.Gauge32, gosnmp.TimeTicks, gosnmp.Counter64, gosnmp.Uinteger32:
		if n := gosnmp.ToBigInt(pdu.Value); n.IsUint64() {
			return n.Uint64()
		}
	}
	return 0
}

package probe

import (
	"context"
	"encoding/binary"
	"fmt"
	"maps"
	"math"
	"net/netip"
	"slices"

	"airdrift/core/evidence"
)

// Identifiers of messages of a session, in binary (IEC 62541-6, annex A).
const (
	opcuaCreateSession   = 461
	opcuaSessionCreated  = 464
	opcuaActivateSession = 467
	opcuaActivated       = 470
	opcuaCloseSession    = 473
	opcuaBrowse          = 527
	opcuaBrowsed         = 530
	opcuaAnonymousToken  = 321

	opcuaObjects      = 85   // the folder of all objects (IEC 62541-5, 8.2.4)
	opcuaServer       = 2253 // the object that every server has of itself
	opcuaHierarchical = 33   // references that lead from above to below
	maxOPCUARoot      = 1000 // nodes at the root that are counted
)

// opcuaClasses are the classes of nodes (IEC 62541-3, 8.30).
var opcuaClasses = map[uint32]string{1: "object", 2: "variable", 4: "method", 8: "object type", 16: "variable type", 32: "reference type", 64: "data type", 128: "view"}

// readsOPCUA reports whether a server lets anybody in over a channel without security, and its root has not been counted.
func readsOPCUA(known []evidence.Item) bool {
	return slices.Contains(evidence.Values(known, keyOPCUASecurity), opcuaUnsecured) && slices.Contains(evidence.Values(known, keyOPCUAIdentity), opcuaAnybody) &&
		evidence.First(known, keyOPCUARoot) == ""
}

// readOPCUARoot counts the nodes at the root of a server's objects by their classes, as anybody, and ends the session. No value is read.
func readOPCUARoot(ctx context.Context, q Query, known []evidence.Item, r *Reading) []evidence.Item {
	at := slices.IndexFunc(known, func(it evidence.Item) bool { return it.Key == keyOPCUASecurity && it.Value == opcuaUnsecured })
	if at < 0 || q.pause(ctx) != nil {
		return nil
	}
	port := known[at].Port.Number
	addr := netip.AddrPortFrom(q.Addr, port)
	conn, err := q.Dialer.Dial(ctx, "tcp", addr, q.Wait)
	if err != nil {
		return nil
	}
	defer conn.Close()
	defer deadline(ctx, conn)()
	l, err := openOPCUA(conn, addr)
	if err != nil {
		return nil
	}
	defer l.close()
	counts, err := l.countRoot(ctx, q)
	if err != nil {
		return nil
	}
	r.Counts = counts
	f := &found{port: evidence.TCP(port)}
	for _, class := range slices.Sorted(maps.Keys(counts)) {
		f.add(evidence.SourceOPCUA, keyOPCUARoot, fmt.Appendf(nil, "%s: %d", class, counts[class]))
	}
	return f.items
}

// countRoot counts within a session, which it ends.
func (l *opcuaLine) countRoot(ctx context.Context, q Query) (counts map[string]int, err error) {
	policy, err := l.createSession(ctx, q)
	if err != nil {
		return nil, err
	}
	defer func() { _ = l.send("MSG", opcuaCloseSession, []byte{1}) }() // with all that hangs on it; the channel is closed next
	if err := l.activateSession(ctx, q, policy); err != nil {
		return nil, err
	}
	return l.browse(ctx, q)
}

// createSession opens a session (IEC 62541-4, 5.6.2) and gives the policy by which anybody comes in.
func (l *opcuaLine) createSession(ctx context.Context, q Query) (policy string, err error) {
	var w opcuaWriter
	w.text("urn:airdrift")
	w.null()
	w = append(w, 2) // a name without a language
	w.text("Airdrift")
	w.number(1) // a client
	w.null()
	w.null()
	w.number(0) // nowhere to be found
	w.null()
	w.text(l.url)
	w.text("Airdrift")
	w.null()
	w.null()
	w = binary.LittleEndian.AppendUint64(w, math.Float64bits(float64(exchangeWait.Milliseconds())))
	w.number(maxOPCUAMessage)
	answer, err := l.inTurn(ctx, q, opcuaCreateSession, w)
	if err != nil {
		return "", err
	}
	r := opcuaReader{raw: answer}
	kind := r.response()
	r.node()
	session := r.node()
	r.skip(8)
	r.bytes()
	r.bytes()
	offered := false
	r.each(func() {
		e := r.endpoint()
		for _, p := range e.policies {
			if !offered && opcuaModes[e.mode] == opcuaUnsecured && opcuaIdentities[p.who] == opcuaAnybody {
				policy, offered = p.id, true
			}
		}
	})
	if kind != opcuaSessionCreated || r.broken || !offered {
		return "", errOPCUA
	}
	l.session = slices.Clone(session)
	return policy, nil
}

// activateSession comes in as anybody (IEC 62541-4, 5.6.3, 7.40.3).
func (l *opcuaLine) activateSession(ctx context.Context, q Query, policy string) error {
	var token, w opcuaWriter
	token.text(policy)
	for range 2 { // nothing is signed
		w.null()
	}
	w.number(0)
	w.number(0)
	w = append(w, 1, 0, opcuaAnonymousToken&0xff, opcuaAnonymousToken>>8, 1)
	w.text(string(token))
	for range 2 {
		w.null()
	}
	answer, err := l.inTurn(ctx, q, opcuaActivateSession, w)
	if err != nil {
		return err
	}
	if r := (opcuaReader{raw: answer}); r.response() != opcuaActivated {
		return errOPCUA
	}
	return nil
}

// browse counts what hangs below the folder of objects (IEC 62541-4, 5.8.2), without the server's object of itself.
func (l *opcuaLine) browse(ctx context.Context, q Query) (map[string]int, error) {
	var w opcuaWriter
	w = append(w, 0, 0)               // no view
	w = append(w, make([]byte, 8)...) // of no time
	w.number(0)
	w.number(maxOPCUARoot)
	w.number(1)
	w = append(w, 1, 0, opcuaObjects, 0)
	w.number(0) // downwards
	w = append(w, 1, 0, opcuaHierarchical, 0, 1)
	w.number(0) // all classes
	w.number(4) // tell the class
	answer, err := l.inTurn(ctx, q, opcuaBrowse, w)
	if err != nil {
		return nil, err
	}
	return readOPCUARootOf(answer)
}

// readOPCUARootOf reads the classes of the nodes that a folder leads to.
func readOPCUARootOf(answer []byte) (map[string]int, error) {
	r, counts := opcuaReader{raw: answer}, map[string]int{}
	kind, result := r.response(), uint32(0)
	r.each(func() {
		result |= r.number()
		r.bytes()
		r.eachOf(maxOPCUARoot, func() {
			r.node()
			r.byte()
			node := r.node()
			r.skip(2)
			r.bytes()
			r.localized()
			class := opcuaClasses[r.number()]
			r.node()
			if class != "" && string(node) != string([]byte{1, 0, opcuaServer & 0xff, opcuaServer >> 8}) {
				counts[class]++
			}
		})
	})
	if kind != opcuaBrowsed || result != 0 || r.broken {
		return nil, errOPCUA
	}
	return counts, nil
}

// inTurn puts one question in its turn; its time begins after that.
func (l *opcuaLine) inTurn(ctx context.Context, q Query, kind uint16, arguments []byte) ([]byte, error) {
	if err := q.pause(ctx); err != nil {
		return nil, err
	}
	defer deadline(ctx, l.conn)()
	return l.put(kind, arguments)
}

// node reads the identifier of a node, of another server's too, as it stands (IEC 62541-6, 5.2.2.9).
func (r *opcuaReader) node() []byte {
	before := r.raw
	kind := r.byte()
	switch kind & 0x3f {
	case 0:
		r.skip(1)
	case 1:
		r.skip(3)
	case 2:
		r.skip(6)
	case 3, 5:
		r.skip(2)
		r.bytes()
	case 4:
		r.skip(18)
	default:
		r.broken = true
	}
	if kind&0x80 != 0 {
		r.bytes()
	}
	if kind&0x40 != 0 {
		r.skip(4)
	}
	if r.broken {
		return nil
	}
	return before[:len(before)-len(r.raw)]
}

package probe

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"airdrift/core/evidence"
)

// A device that answers in segments without an end, or out of their order, is bounded, and what is not whole is not believed.
func TestBACnetSegments(t *testing.T) {
	segment := func(id, number, flags byte) []byte {
		return bacnetMessage(bvlcUnicast, bacnetPlace{}, 0, append([]byte{0x38 | flags, id, number, 1, bacnetReadMany}, bytes.Repeat([]byte{0x09, 0x4d}, 20)...)...)
	}
	for name, answer := range map[string]func(q []byte) [][]byte{
		"without an end": func(q []byte) [][]byte {
			return [][]byte{segment(q[8], 0, 4), segment(q[8], 1, 4), segment(q[8], 1, 4)}
		},
		"the last first": func(q []byte) [][]byte { return [][]byte{segment(q[8], 3, 0), segment(q[8], 2, 4)} },
	} {
		synctest.Test(t, func(t *testing.T) {
			f := &found{}
			conn, _ := responder{func(_ uint16, q []byte) [][]byte {
				if len(q) < 10 || q[5]&npduExpecting == 0 {
					return nil
				}
				return answer(q)
			}}.Dial(t.Context(), "udp", netip.MustParseAddrPort("10.40.1.9:47808"), time.Second)
			line := &bacnetLine{conn: conn, wait: time.Second}
			if line.identify(t.Context(), bacnetPlace{}, 1, f); len(f.items) > 0 {
				t.Errorf("%s: %s", name, texts(f.items))
			}
			conn.Close()
		})
	}
}

// Not more devices are asked behind a router than a trunk has, however many it tells of.
func TestBACnetRouterThatTellsOfMany(t *testing.T) {
	b := &bacnetVisit{}
	for i := range uint32(5000) {
		h := bacnetHeard{from: bacnetPlace{uint16(1 + i%3), string([]byte{byte(i >> 8), byte(i)})}}
		h.body = binary.BigEndian.AppendUint32([]byte{0x10, 0, 0xc4}, bacnetDevice<<22|i)
		h.body = append(h.body, 0x21, 50, 0x91, 3, 0x21, 9)
		b.hear(h)
		b.hear(bacnetHeard{network: true, message: npduIRoute, body: binary.BigEndian.AppendUint16(nil, uint16(i+1))})
	}
	if len(b.places) != maxBACnetBehind || len(b.networks) != maxBACnetNets || len(b.numbers) != len(b.places) {
		t.Errorf("%d places and %d networks", len(b.places), len(b.networks))
	}
}

// Whoever calls out that a hundred devices stand behind another has that one asked for a few of them, and none is believed in that
// does not answer.
func TestBACnetDevicesThatAreOnlyCalledOut(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var mu sync.Mutex // guards asked
		asked, units := map[string]bool{}, 0
		q := queryOf(responder{func(_ uint16, question []byte) [][]byte {
			if len(question) < 9 {
				return nil
			}
			if len(question) > 9 && question[5]&npduTo != 0 && question[8] > 0 {
				mu.Lock()
				asked[string(question[6:10])] = true
				mu.Unlock()
				return nil
			}
			if question[5] == npduExpecting {
				return one(bacnetMessage(bvlcUnicast, bacnetPlace{}, 0, apduReject<<4, question[8], 9))
			}
			return nil
		}})
		q.Known = func(context.Context) (items []evidence.Item) {
			for i := range 100 {
				items = append(items, evidence.Item{Source: evidence.SourceBACnet, Key: keyBACnetBehind, Value: fmt.Sprintf("2001/%02x %d", i, i)})
			}
			return items
		}
		q.Unit = func(string, []evidence.Item) { units++ }
		items, answered := askBACnet(t.Context(), q)
		mu.Lock()
		defer mu.Unlock()
		if !answered || len(asked) != maxBACnetSilences || units != 0 {
			t.Errorf("%s, %v: %d were asked and %d believed in", texts(items), answered, len(asked), units)
		}
	})
}

// A router whose first answer gets lost, and a network whose callers do, are asked once more.
func TestBACnetRouterWhoseAnswersGetLost(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		asked, units := map[byte]int{}, []string{}
		behind := bacnetPlace{2001, "\x05"}
		var mu sync.Mutex // guards asked
		again := func(question byte) bool {
			mu.Lock()
			defer mu.Unlock()
			asked[question]++
			return asked[question] > 1
		}
		q := queryOf(responder{func(_ uint16, question []byte) [][]byte {
			h, _ := readBACnet(question)
			switch {
			case h.network && h.message == npduWhoRoutes && again('r'):
				return one(bacnetMessage(bvlcUnicast, bacnetPlace{}, npduMessage, npduIRoute, 0x07, 0xd1))
			case !h.network && len(h.body) > 1 && h.body[0]>>4 == apduUnconfirmed && h.body[1] == bacnetWhoIs && again('w'):
				return one(bacnetFrom(behind, 0x10, 0, 0xc4, 0x02, 0, 0x04, 0xb1, 0x21, 50, 0x91, 3, 0x21, 9))
			case !h.network && len(h.body) > 2 && h.body[0]>>4 == apduConfirmed:
				if question[5]&npduTo != 0 {
					return one(bacnetFrom(behind, apduReject<<4, h.body[2], 9))
				}
				return one(bacnetMessage(bvlcUnicast, bacnetPlace{}, 0, apduReject<<4, h.body[2], 9))
			}
			return nil
		}})
		q.Unit = func(place string, _ []evidence.Item) { units = append(units, place) }
		items, answered := askBACnet(t.Context(), q)
		if !answered || len(units) != 1 || units[0] != "bacnet/"+behind.String() {
			t.Errorf("%s, %v: behind it are %v", texts(items), answered, units)
		}
	})
}

// Of several behind a router one answers a call when the others have long done so, or only the next one: all of them are met. One that never stops
// telling of more is called a few times and no more.
func TestBACnetStationThatAnswersBehindTheOthers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		station := func(n byte) bacnetPlace { return bacnetPlace{2001, string([]byte{n})} }
		iAm := func(n byte) []byte {
			return bacnetFrom(station(n), 0x10, 0, 0xc4, 0x02, 0, 0x04, n, 0x21, 50, 0x91, 3, 0x21, 9)
		}
		for name, tt := range map[string]struct {
			answers func(call byte) [][]byte // to the calls, from 1 on
			want    int
		}{
			"one at the second call": {func(call byte) [][]byte { return [][]byte{iAm(1), iAm(2), iAm(min(call+1, 3))} }, 3},
			"one more at each call":  {func(call byte) [][]byte { return one(iAm(call)) }, maxBACnetCalls},
		} {
			calls, units := byte(0), []string{}
			var mu sync.Mutex // guards calls
			q := queryOf(responder{func(_ uint16, question []byte) [][]byte {
				h, _ := readBACnet(question)
				switch {
				case h.network && h.message == npduWhoRoutes:
					return one(bacnetMessage(bvlcUnicast, bacnetPlace{}, npduMessage, npduIRoute, 0x07, 0xd1))
				case !h.network && len(h.body) > 1 && h.body[0]>>4 == apduUnconfirmed && h.body[1] == bacnetWhoIs:
					mu.Lock()
					defer mu.Unlock()
					calls++
					return tt.answers(calls)
				case !h.network && len(h.body) > 2 && h.body[0]>>4 == apduConfirmed:
					if question[5]&npduTo != 0 {
						return one(bacnetFrom(bacnetPlace{2001, string(question[9:10])}, apduReject<<4, h.body[2], 9))
					}
					return one(bacnetMessage(bvlcUnicast, bacnetPlace{}, 0, apduReject<<4, h.body[2], 9))
				}
				return nil
			}})
			q.Unit = func(place string, _ []evidence.Item) { units = append(units, place) }
			if _, answered := askBACnet(t.Context(), q); !answered || len(units) != tt.want || int(calls) > maxBACnetCalls {
				t.Errorf("%s: after %d calls there are %v, want %d", name, calls, units, tt.want)
			}
		}
	})
}

// Of who has called out two questions may get lost; of who has not, one.
func TestBACnetDeviceOnALineThatLoses(t *testing.T) {
	for _, tt := range []struct {
		heard, lost int
		answers     bool
	}{{1, 2, true}, {1, 3, false}, {0, 1, true}, {0, 2, false}} {
		synctest.Test(t, func(t *testing.T) {
			var asked atomic.Int32
			q := queryOf(responder{func(_ uint16, question []byte) [][]byte {
				h, _ := readBACnet(question)
				if h.network || len(h.body) < 3 || h.body[0]>>4 != apduConfirmed || int(asked.Add(1)) <= tt.lost {
					return nil
				}
				return one(bacnetMessage(bvlcUnicast, bacnetPlace{}, 0, apduReject<<4, h.body[2], 9))
			}})
			q.Known = func(context.Context) []evidence.Item {
				return slices.Repeat([]evidence.Item{{Source: evidence.SourceBACnet, Key: evidence.KeyBACnetInstance, Value: "4711"}}, tt.heard)
			}
			if _, answered := askBACnet(t.Context(), q); answered != tt.answers {
				t.Errorf("%+v: answered is %v after %d questions", tt, answered, asked.Load())
			}
		})
	}
}

// A small controller is asked before its call is heard, and answers seconds later: as it calls out meanwhile, it is waited for.
func TestBACnetDeviceThatCallsWhileItIsAsked(t *testing.T) {
	for _, calls := range []bool{true, false} {
		synctest.Test(t, func(t *testing.T) {
			began := time.Now()
			var asked atomic.Int32
			q := queryOf(responder{func(_ uint16, question []byte) [][]byte {
				h, _ := readBACnet(question)
				if h.network || len(h.body) < 3 || h.body[0]>>4 != apduConfirmed || asked.Add(1) <= 2 {
					return nil
				}
				return one(bacnetMessage(bvlcUnicast, bacnetPlace{}, 0, apduReject<<4, h.body[2], 9))
			}})
			q.Known = func(context.Context) []evidence.Item {
				if !calls || time.Since(began) < q.Wait {
					return nil
				}
				return []evidence.Item{{Source: evidence.SourceBACnet, Key: evidence.KeyBACnetInstance, Value: "4711"}}
			}
			if _, answered := askBACnet(t.Context(), q); answered != calls {
				t.Errorf("it calls out %t: answered is %t after %d questions", calls, answered, asked.Load())
			}
		})
	}
}

package evidence

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"airdrift/core/spread"
)

// Times is how long a device took over its answers in one protocol, in one visit: from the question's leaving to the beginning of the
// answer, as seen from where the sweep ran. It is written as a fact (KeyTimes).
type Times struct {
	Protocol string // by its name
	Answers  int
	Lost     int // questions to which nothing came within their time
	Median   time.Duration
	Most     time.Duration // 95 of a hundred answers took no longer
	Worst    time.Duration
}

// maxProtocol is the longest name of a protocol that is read.
const maxProtocol = 40

// TimesOf reckons the times of answers. The list is put into order.
func TimesOf(protocol string, answers []time.Duration, count, lost int) Times {
	t := Times{Protocol: protocol, Answers: count, Lost: lost}
	if len(answers) == 0 {
		return t
	}
	slices.Sort(answers)
	t.Median, t.Most, t.Worst = spread.Share(answers, 0.5), spread.Share(answers, 0.95), answers[len(answers)-1]
	return t
}

// Milliseconds gives a time in milliseconds, down to a thousandth of one.
func Milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// String writes times as the value of a fact: the protocol, how many answers and losses, and median, 95th percentile and longest in
// milliseconds.
func (t Times) String() string {
	ms := func(d time.Duration) string { return strconv.FormatFloat(Milliseconds(d), 'f', -1, 64) }
	return fmt.Sprintf("%s %d %d %s %s %s", t.Protocol, t.Answers, t.Lost, ms(t.Median), ms(t.Most), ms(t.Worst))
}

// ParseTimes reads the value of such a fact. ok is false where it is none.
func ParseTimes(value string) (t Times, ok bool) {
	words := strings.Split(value, " ")
	if len(words) != 6 || words[0] == "" || len(words[0]) > maxProtocol {
		return Times{}, false
	}
	const longest = float64(time.Hour / time.Millisecond)
	t.Protocol = words[0]
	for i, to := range []*int{&t.Answers, &t.Lost} {
		n, err := strconv.ParseUint(words[1+i], 10, 31)
		if err != nil {
			return Times{}, false
		}
		*to = int(n)
	}
	for i, to := range []*time.Duration{&t.Median, &t.Most, &t.Worst} {
		ms, err := strconv.ParseFloat(words[3+i], 64)
		if err != nil || !(ms >= 0 && ms <= longest) {
			return Times{}, false
		}
		*to = time.Duration(math.Round(ms*1000)) * time.Microsecond
	}
	return t, t.Median <= t.Most && t.Most <= t.Worst
}

// With gives the times of the same protocol at two addresses of a device together. What cannot be reckoned from both is taken from the one
// with more answers.
func (t Times) With(other Times) Times {
	more := t
	if other.Answers > t.Answers {
		more = other
	}
	more.Answers, more.Lost, more.Worst = t.Answers+other.Answers, t.Lost+other.Lost, max(t.Worst, other.Worst)
	return more
}

// TimesIn gives the times among facts, in order of their protocols, each once.
func TimesIn(items []Item) []Times {
	var all []Times
	for _, it := range items {
		if it.Key != KeyTimes {
			continue
		}
		t, ok := ParseTimes(it.Value)
		if !ok {
			continue
		}
		if at := slices.IndexFunc(all, func(a Times) bool { return a.Protocol == t.Protocol }); at >= 0 {
			all[at] = all[at].With(t)
		} else {
			all = append(all, t)
		}
	}
	slices.SortFunc(all, func(a, b Times) int { return strings.Compare(a.Protocol, b.Protocol) })
	return all
}

// PackTimes puts times into the form in which they are stored: of each the length of the protocol's name and the name, how many answers and
// losses, and median, 95th percentile and longest in microseconds, in the variable length of Protocol Buffers.
func PackTimes(all []Times) []byte {
	var packed []byte
	for _, t := range all {
		packed = appendText(packed, t.Protocol)
		for _, n := range []int64{int64(t.Answers), int64(t.Lost), t.Median.Microseconds(), t.Most.Microseconds(), t.Worst.Microseconds()} {
			packed = binary.AppendUvarint(packed, uint64(max(n, 0)))
		}
	}
	return packed
}

// UnpackTimes reads times that are stored so. Those that can be read before one that cannot are given all the same.
func UnpackTimes(packed []byte) (all []Times) {
	for len(packed) > 0 {
		length, size := binary.Uvarint(packed)
		if size <= 0 || length == 0 || length > maxProtocol || uint64(len(packed)-size) < length {
			return all
		}
		t := Times{Protocol: string(packed[size : size+int(length)])}
		packed = packed[size+int(length):]
		var figures [5]uint64
		for i := range figures {
			n, size := binary.Uvarint(packed)
			if size <= 0 || n > math.MaxInt32*1000 {
				return all
			}
			figures[i], packed = n, packed[size:]
		}
		t.Answers, t.Lost = int(figures[0]), int(figures[1])
		for i, to := range []*time.Duration{&t.Median, &t.Most, &t.Worst} {
			*to = time.Duration(figures[2+i]) * time.Microsecond
		}
		all = append(all, t)
	}
	return all
}

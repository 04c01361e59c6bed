package evidence

// Bounds is how much is kept of one sighting. What a device says beyond it is left out, and that is noted among its facts.
type Bounds struct {
	Items int // facts
	Bytes int // of all facts together, as size counts them
}

var (
	// Asked bounds what a device says in all. The largest switches stay far below it.
	Asked = Bounds{Items: 2048, Bytes: 256 << 10}
	// Heard bounds what is taken from announcements that nobody asked for, so that a neighbour that talks without end, in its
	// own name or another's, leaves room for what the device answers when it is asked.
	Heard = Bounds{Items: 256, Bytes: 48 << 10}
)

// size is about what an item costs wherever it is kept, in bytes.
func (it Item) size() int {
	const fixed = 48 // source, port, times
	return fixed + len(it.Key) + len(it.Value)
}

// Size is about what facts cost wherever they are kept, in bytes.
func Size(items []Item) int {
	total := 0
	for _, it := range items {
		total += it.size()
	}
	return total
}

// fact is what two items have in common that say the same.
type fact struct {
	key   string
	port  Port
	value string
}

func (it Item) fact() fact { return fact{it.Key, it.Port, it.Value} }

// manyItems is from how many facts on a table of them pays.
const manyItems = 64

// knownIn gives a function that reports whether a fact is among the items, and takes it to be from then on.
func knownIn(items []Item, more int) (known func(Item) bool) {
	if len(items)+more < manyItems {
		return func(it Item) bool {
			for i := range items {
				if items[i].fact() == it.fact() {
					return true
				}
			}
			items = append(items[:len(items):len(items)], it)
			return false
		}
	}
	facts := make(map[fact]struct{}, len(items))
	for i := range items {
		facts[items[i].fact()] = struct{}{}
	}
	return func(it Item) bool {
		if _, known := facts[it.fact()]; known {
			return true
		}
		facts[it.fact()] = struct{}{}
		return false
	}
}

// Merge puts new items behind the old, within bounds, and leaves out what was said before at the same port in the same
// words. Where something does not fit, a fact of KeyCut says of which source.
func Merge(old, more []Item, bounds Bounds) []Item {
	if len(more) == 0 {
		return old
	}
	known, bytes := knownIn(old, len(more)), Size(old)
	for _, item := range more {
		if known(item) {
			continue
		}
		if item.Key != KeyCut && (len(old) >= bounds.Items || bytes+item.size() > bounds.Bytes) {
			if cut := (Item{Source: SourceSweep, Key: KeyCut, Value: string(item.Source), At: item.At}); !known(cut) {
				old = append(old, cut)
			}
			continue
		}
		bytes += item.size()
		old = append(old, item)
	}
	return old
}

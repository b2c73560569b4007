package evidence

// table numbers values, which are hashes. At millions of values it is asked a hundred
// million times, mostly for what it does not hold, and a general map takes three times as
// long.
type table struct {
	slots []slotOf // open addressing
	hints []uint64 // a bit for every value, by a part of it: small enough to stay near the processor
	n     int      // values
}

type slotOf struct {
	value uint64
	no    valueNo
}

// valueNo numbers the values that were asked for, from 1; 0 is none.
type valueNo int32

func newTable(expected int) table {
	size := 1024
	for size < 2*expected {
		size *= 2
	}
	t := table{n: 1}
	t.resize(size)
	return t
}

func (t *table) resize(size int) {
	old := t.slots
	t.slots, t.hints = make([]slotOf, size), make([]uint64, hintBits*size/64)
	for _, s := range old {
		if s.no != 0 {
			t.place(s)
		}
	}
}

// hintBits are those of a hint for each slot.
const hintBits = 4

func (t *table) place(s slotOf) {
	mask := uint64(len(t.slots) - 1)
	for i := s.value & mask; ; i = (i + 1) & mask {
		if t.slots[i].no == 0 {
			t.slots[i] = s
			break
		}
	}
	at := t.hint(s.value)
	t.hints[at/64] |= 1 << (at % 64)
}

func (t *table) hint(v uint64) uint64 { return v >> 32 & uint64(len(t.hints)*64-1) }

// find is the number of a value.
func (t *table) find(v uint64) (no valueNo, known bool) {
	at := t.hint(v)
	if t.hints[at/64]&(1<<(at%64)) == 0 {
		return 0, false
	}
	mask := uint64(len(t.slots) - 1)
	for i := v & mask; ; i = (i + 1) & mask {
		if s := &t.slots[i]; s.no == 0 || s.value == v {
			return s.no, s.no != 0
		}
	}
}

// add numbers a value that is new.
func (t *table) add(v uint64) {
	if _, known := t.find(v); known {
		return
	}
	if 2*t.n >= len(t.slots) {
		t.resize(2 * len(t.slots))
	}
	t.place(slotOf{v, valueNo(t.n)}) // a face has some thirty values: enough for seventy million left over
	t.n++
}

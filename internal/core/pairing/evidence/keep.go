package evidence

import (
	"encoding/binary"
	"fmt"
	"math"
)

// patternSize is that of a pattern as it is kept.
const patternSize = int(comparators)*5 + 4

// Bytes is the pattern in a form that can be kept: the levels, the shares and the stand, in
// the order of the comparators.
func (p *Pattern) Bytes() []byte {
	b := make([]byte, 0, patternSize)
	for _, l := range p.Levels {
		b = append(b, byte(l))
	}
	for _, s := range p.Share {
		b = binary.LittleEndian.AppendUint32(b, math.Float32bits(s))
	}
	return binary.LittleEndian.AppendUint32(b, math.Float32bits(p.Stand))
}

// PatternOf is what Bytes kept.
func PatternOf(b []byte) (p Pattern, err error) {
	if len(b) != patternSize {
		return p, fmt.Errorf("a pattern of %d bytes, expected %d", len(b), patternSize)
	}
	for c := range comparators {
		if p.Levels[c] = Level(b[c]); p.Levels[c] >= most {
			return p, fmt.Errorf("a pattern with the level %d", p.Levels[c])
		}
		p.Share[c] = math.Float32frombits(binary.LittleEndian.Uint32(b[int(comparators)+4*int(c):]))
	}
	p.Stand = math.Float32frombits(binary.LittleEndian.Uint32(b[patternSize-4:]))
	return p, nil
}

// sharedBy is how many records carry a word that is told: of rarer ones it is known that
// nobody beside a pair carries them.
const sharedBy = 3

// CommonWords counts the records that carry a word of a name, of the words that more than
// a pair may carry: as hashes.
func CommonWords(of ...*Records) map[uint64]int32 {
	all := map[uint64]int32{}
	for _, r := range of {
		n := &r.names
		columns := n.columns()
		reader := r.Reader()
		times := [len(columns)][]int32{}
		for k, c := range columns {
			times[k] = make([]int32, len(c.cells))
		}
		for i := range r.roster.Len() {
			if !n.parted(i) {
				name := reader.name(i)
				name.eachWord(func(w *word) { all[w.key]++ })
				continue
			}
			for k, c := range columns {
				if c.codes != nil {
					times[k][c.codes[i]]++
				}
			}
		}
		for k, c := range columns {
			for code, cell := range c.cells {
				for i := range cell.plain {
					if n := times[k][code]; n > 0 {
						all[cell.plain[i].key] += n
					}
				}
			}
		}
	}
	for key, n := range all {
		if n < sharedBy {
			delete(all, key)
		}
	}
	return all
}

// Words are the hashes of the words of a record's name.
func (r *Reader) Words(i int) (list []uint64) {
	n := r.name(i)
	n.eachWord(func(w *word) { list = append(list, w.key) })
	return list
}

// CompareAlone compares two records without their rosters: of the words that their names
// hold it is told how many of so many records carry them, and of all else it is taken that
// nobody beside the two does.
func CompareAlone(person, account *Face, records int, carried map[uint64]int32) Pattern {
	c := &Counts{at: newTable(len(carried)), carried: make([]int32, len(carried)+1), records: records}
	for key, n := range carried {
		v := mix(key ^ saltWord)
		c.at.add(v)
		at, _ := c.at.find(v)
		c.carried[at] = n
	}
	c.Fill(person)
	c.Fill(account)
	return Compare(person, account)
}

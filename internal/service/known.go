package service

import (
	"crypto/sha256"
	"encoding/binary"
	"hash/maphash"
	"slices"
)

// known is what the store has of a system while it is read again: for each
// record the hash of its id, the digest of its values and where this reading
// met it, 24 bytes in all. Ids that are new stand in a map beside it.
//
// Two ids with one hash are taken for one that was given twice, and both stay
// as they were: the safe side, met once in a hundred million readings of a
// million records.
type known struct {
	seed    maphash.Seed
	entries []entry
	starts  []uint32 // first entry by the leading bits of the hash
	fresh   map[uint64]uint32
	unseen  int
}

type entry struct {
	id     uint64
	digest uint64
	seen   uint32 // 0 not yet; else the line, and 1 where there are none
}

// startBits make buckets of a few entries each at a million records.
const startBits = 17

func newKnown() *known {
	return &known{seed: maphash.MakeSeed(), fresh: map[uint64]uint32{}}
}

// expect makes room for about so many.
func (k *known) expect(n int) { k.entries = make([]entry, 0, n) }

// expectFresh makes room for so many in all, as far as a system's word is
// believed: a table that grows leaves its old self behind.
func (k *known) expectFresh(n int) {
	const believed = 1 << 21
	if more := min(n-len(k.entries), believed); more > 0 && len(k.fresh) == 0 {
		k.fresh = make(map[uint64]uint32, more)
	}
}

func (k *known) add(id, digest []byte) error {
	k.entries = append(k.entries, entry{id: maphash.Bytes(k.seed, id), digest: short(digest)})
	return nil
}

// ready sorts what was added.
func (k *known) ready() {
	slices.SortFunc(k.entries, func(a, b entry) int {
		switch {
		case a.id < b.id:
			return -1
		case a.id > b.id:
			return 1
		}
		return 0
	})
	k.starts = make([]uint32, 1<<startBits+1)
	at := 0
	for bucket := range k.starts {
		for at < len(k.entries) && k.entries[at].id>>(64-startBits) < uint64(bucket) { // buckets are few
			at++
		}
		k.starts[bucket] = uint32(at) // rosters hold fewer than 2^32 records
	}
	k.unseen = len(k.entries)
}

func (k *known) find(hash uint64) *entry {
	if len(k.entries) == 0 {
		return nil
	}
	bucket := hash >> (64 - startBits)
	part := k.entries[k.starts[bucket]:k.starts[bucket+1]]
	for i := range part {
		if part[i].id == hash {
			return &part[i]
		}
	}
	return nil
}

// meet notes that an id was read, and tells where it was met before (0: it
// wasn't) and what the store has of it.
func (k *known) meet(id string, line int) (before uint32, stored *entry) {
	mark := uint32(max(1, line)) // files of more lines than that are refused by size
	hash := maphash.String(k.seed, id)
	if e := k.find(hash); e != nil {
		if before = e.seen; before == 0 {
			e.seen = mark
			k.unseen--
		}
		return before, e
	}
	if before = k.fresh[hash]; before == 0 {
		k.fresh[hash] = mark
	}
	return before, nil
}

// missed reports whether this reading did not meet an id of the store.
func (k *known) missed(id []byte) bool {
	e := k.find(maphash.Bytes(k.seed, id))
	return e != nil && e.seen == 0
}

// forget makes every id unmet, for a reading that begins anew.
func (k *known) forget() {
	for i := range k.entries {
		k.entries[i].seen = 0
	}
	k.unseen = len(k.entries)
	clear(k.fresh)
}

func short(digest []byte) uint64 {
	if len(digest) < 8 {
		return 0
	}
	return binary.BigEndian.Uint64(digest)
}

// keeper turns native records into what is stored: the attributes that the
// shape asks for, in one order.
type keeper struct {
	natives []string
	text    []byte // of the record at hand
	sum     []byte
}

// digest is over names, counts and lengths as well, so that no two records
// have one by being cut differently.
func (k *keeper) digest(values map[string][]string) []byte {
	k.text = k.text[:0]
	for _, n := range k.natives {
		list, ok := values[n]
		if !ok {
			continue
		}
		k.text = append(binary.AppendUvarint(k.text, uint64(len(n))), n...)
		k.text = binary.AppendUvarint(k.text, uint64(len(list)))
		for _, v := range list {
			k.text = append(binary.AppendUvarint(k.text, uint64(len(v))), v...)
		}
	}
	sum := sha256.Sum256(k.text)
	k.sum = append(k.sum[:0], sum[:16]...)
	return k.sum
}

// json is the record as the store keeps it.
func (k *keeper) json(values map[string][]string) []byte {
	out := make([]byte, 0, len(k.text)+16*len(k.natives))
	out = append(out, '{')
	for _, n := range k.natives {
		list, ok := values[n]
		if !ok {
			continue
		}
		if len(out) > 1 {
			out = append(out, ',')
		}
		out = append(appendText(out, n), ':', '[')
		for i, v := range list {
			if i > 0 {
				out = append(out, ',')
			}
			out = appendText(out, v)
		}
		out = append(out, ']')
	}
	return append(out, '}')
}

// appendText writes a JSON string; values are valid UTF-8 without control
// characters but for those escaped here.
func appendText(out []byte, s string) []byte {
	out = append(out, '"')
	start := 0
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= ' ' && c != '"' && c != '\\' {
			continue
		}
		out = append(out, s[start:i]...)
		switch c {
		case '"', '\\':
			out = append(out, '\\', c)
		case '\n':
			out = append(out, '\\', 'n')
		case '\r':
			out = append(out, '\\', 'r')
		case '\t':
			out = append(out, '\\', 't')
		default:
			const hex = "0123456789abcdef"
			out = append(out, '\\', 'u', '0', '0', hex[c>>4], hex[c&15])
		}
		start = i + 1
	}
	return append(append(out, s[start:]...), '"')
}

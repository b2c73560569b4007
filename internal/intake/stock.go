package intake

import (
	"crypto/sha256"
	"encoding/binary"
	"hash/maphash"
	"math/bits"
)

// stock is what the store has of a system while it is read again, and what the
// reading saw: for each id its hash, the digest of the stored values, and where
// it was seen, 24 bytes in all. It is one table with open addresses, which never
// grows when it was told beforehand how many are to come.
//
// Two ids with one hash are taken for one that was given twice, and both stay
// as they were: the safe side, met once in a hundred million readings of a
// million records.
type stock struct {
	seed   maphash.Seed
	slots  []entry
	n      int
	stored int
	unseen int // of those stored
}

// entry is one id. A digest of 0 says that the store has nothing of it.
type entry struct {
	id     uint64
	digest uint64
	seen   uint32 // 0 not yet; else the line, and 1 where there are none
}

func newStock() *stock { return &stock{seed: maphash.MakeSeed(), slots: make([]entry, 64)} }

// believed bounds how much room a system's word is given.
const believed = 1 << 22

// expect makes room for so many ids in all.
func (k *stock) expect(n int) {
	if room := min(n, believed) * 8 / 7; room > len(k.slots) {
		k.resize(room + 64)
	}
}

func (k *stock) resize(room int) {
	old := k.slots
	k.slots = make([]entry, room)
	for _, e := range old {
		if e.id != 0 {
			*k.slot(e.id) = e
		}
	}
}

// slot is where an id is, or would be.
func (k *stock) slot(id uint64) *entry {
	at, _ := bits.Mul64(id, uint64(len(k.slots))) // spreads hashes over any number of slots
	for {
		if e := &k.slots[at]; e.id == id || e.id == 0 {
			return e
		}
		if at++; at == uint64(len(k.slots)) {
			at = 0
		}
	}
}

// enter finds an id's place, new or not.
func (k *stock) enter(id uint64) *entry {
	e := k.slot(id)
	if e.id != 0 {
		return e
	}
	if k.n++; k.n > len(k.slots)*15/16 {
		k.resize(len(k.slots) * 3 / 2)
		e = k.slot(id)
	}
	e.id = id
	return e
}

// hashed is an id's hash; 0 stands for an empty slot.
func hashed(h uint64) uint64 { return max(h, 1) }

// add tells of a record that the store has.
func (k *stock) add(id, digest []byte) error {
	e := k.enter(hashed(maphash.Bytes(k.seed, id)))
	e.digest = short(digest)
	k.stored++
	k.unseen++
	return nil
}

// see notes that an id was read, and tells where it was seen before (0: it
// wasn't) and what the store has of it (0: nothing).
func (k *stock) see(id string, line int) (before uint32, digest uint64) {
	e := k.enter(hashed(maphash.String(k.seed, id)))
	if before = e.seen; before == 0 {
		e.seen = uint32(max(1, line)) // files of more lines than that are refused by size
		if e.digest != 0 {
			k.unseen--
		}
	}
	return before, e.digest
}

// missed reports whether this reading did not see an id of the store.
func (k *stock) missed(id []byte) bool {
	e := k.slot(hashed(maphash.Bytes(k.seed, id)))
	return e.digest != 0 && e.seen == 0
}

// forget makes every id unseen, for a reading that begins anew.
func (k *stock) forget() {
	for i := range k.slots {
		k.slots[i].seen = 0
	}
	k.unseen = k.stored
}

// short is as much of a digest as is compared, and never 0.
func short(digest []byte) uint64 {
	if len(digest) < 8 {
		return 1
	}
	return max(binary.BigEndian.Uint64(digest), 1)
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

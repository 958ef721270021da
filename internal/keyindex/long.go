package keyindex

import (
	"encoding/binary"
	"hash/maphash"
	"iter"
)

// longKeys is a hash table of keys that do not fit a slot. The bytes of all keys stand one after another in large
// chunks, each as a record: the member number, the length, the bytes. An entry of the table is 24 bits of the key's
// hash and where its record stands, so that a lookup costs two cache misses, and a key little more than its bytes.
type longKeys struct {
	seed    maphash.Seed
	entries []uint64 // tag << 40 | position of the record + 1; 0 is an empty entry
	chunks  [][]byte
	count   int
}

const (
	chunkBits = 20 // a chunk has 1 MiB; a key that is longer has a chunk of its own
	chunkSize = 1 << chunkBits
	atMask    = 1<<40 - 1
)

// find returns the member of a key, plus 1; 0 if no member has it.
func (l *longKeys) find(key []byte) int32 {
	if l.entries == nil {
		return 0
	}
	return l.findHashed(maphash.Bytes(l.seed, key), key)
}

func (l *longKeys) findHashed(h uint64, key []byte) int32 {
	mask := uint64(len(l.entries) - 1)
	for at := h & mask; ; at = (at + 1) & mask {
		e := l.entries[at]
		if e == 0 {
			return 0
		}
		if e>>40 == h>>40 {
			if member, has := l.record(e); string(has) == string(key) {
				return member
			}
		}
	}
}

// record returns the member number, plus 1, and the key of an entry.
func (l *longKeys) record(entry uint64) (int32, []byte) {
	at := entry&atMask - 1
	b := l.chunks[at>>chunkBits][at&(chunkSize-1):]
	n, used := binary.Uvarint(b[4:])
	return int32(binary.LittleEndian.Uint32(b)), b[4+used : 4+used+int(n)]
}

// all yields the keys with their members, plus 1.
func (l *longKeys) all() iter.Seq2[int32, []byte] {
	return func(yield func(int32, []byte) bool) {
		for _, e := range l.entries {
			if e == 0 {
				continue
			}
			if member, key := l.record(e); !yield(member, key) {
				return
			}
		}
	}
}

// add adds a key that no member has. member is its number, plus 1.
func (l *longKeys) add(key []byte, member int32) {
	if l.entries == nil {
		l.seed, l.entries = maphash.MakeSeed(), make([]uint64, 16)
	}
	if l.count >= len(l.entries)/8*5 {
		l.grow()
	}
	l.count++
	l.enter(maphash.Bytes(l.seed, key), l.put(key, member))
}

// put writes a record and returns where it stands.
func (l *longKeys) put(key []byte, member int32) uint64 {
	size := 4 + binary.MaxVarintLen64 + len(key)
	last := len(l.chunks) - 1
	if last < 0 || cap(l.chunks[last])-len(l.chunks[last]) < size {
		l.chunks = append(l.chunks, make([]byte, 0, max(size, chunkSize)))
		last++
	}
	c := l.chunks[last]
	at := uint64(last)<<chunkBits | uint64(len(c))
	c = binary.LittleEndian.AppendUint32(c, uint32(member))
	c = binary.AppendUvarint(c, uint64(len(key)))
	l.chunks[last] = append(c, key...)
	return at
}

// enter puts an entry where it belongs.
func (l *longKeys) enter(h, at uint64) {
	mask := uint64(len(l.entries) - 1)
	slot := h & mask
	for l.entries[slot] != 0 {
		slot = (slot + 1) & mask
	}
	l.entries[slot] = h>>40<<40 | (at + 1)
}

func (l *longKeys) grow() {
	old := l.entries
	l.entries = make([]uint64, 2*len(old))
	for _, e := range old {
		if e != 0 {
			_, key := l.record(e)
			l.enter(maphash.Bytes(l.seed, key), e&atMask-1)
		}
	}
}

// finder looks up long keys some at a time: all hashes first, then all entries, then all records. The memory that
// one lookup waits for is fetched while the next is under way.
type finder struct {
	n     int
	used  int
	rows  [32]int
	keys  [32][]byte
	hash  [32]uint64
	entry [32]uint64
	seen  byte
	bytes [8192]byte
}

// wait puts a key, which stands at the end of the finder's bytes or elsewhere, among those to be looked up, and
// says whether they are as many as there is room for.
func (f *finder) wait(row int, key []byte) bool {
	if f.used+len(key) <= len(f.bytes) && &key[0] == &f.bytes[f.used] {
		f.used += len(key)
	}
	f.rows[f.n], f.keys[f.n] = row, key
	f.n++
	return f.n == len(f.rows) || len(f.bytes)-f.used < 256
}

// find writes the members of the keys that wait.
func (f *finder) find(l *longKeys, member []int32) {
	keys := f.keys[:f.n]
	f.n, f.used = 0, 0
	if l.entries == nil {
		for k := range keys {
			member[f.rows[k]] = Absent
		}
		return
	}
	mask := uint64(len(l.entries) - 1)
	for k, key := range keys {
		f.hash[k] = maphash.Bytes(l.seed, key)
	}
	for k := range keys {
		f.entry[k] = l.entries[f.hash[k]&mask]
	}
	var seen byte
	for k := range keys {
		if e := f.entry[k]; e != 0 {
			at := e&atMask - 1
			seen |= l.chunks[at>>chunkBits][at&(chunkSize-1)]
		}
	}
	f.seen = seen // or the compiler would leave the fetching out
	for k, key := range keys {
		member[f.rows[k]] = l.findHashed(f.hash[k], key) - 1
	}
}

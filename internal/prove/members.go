package prove

// register is the keys of a dimension's table, each with what a row that points there has to know of it.
type register struct {
	low      int64
	step     int64
	near     []int32          // by step above low, the row's number plus 1, where keys are dense
	far      map[int64]int32  // the same for all other keys
	from, to []int64          // the validity of each row; nil if unversioned
	durable  []int64          // durable keys, by row; nil if there are none
	member   []int32          // which member the row is a version of
	natural  []uint64         // fingerprints of natural keys, by row; nil if nobody asks
	key      []int64          // the keys, by row; nil if nobody asks
	named    map[uint64]int32 // the first row with a natural key; nil if nobody asks
	first    []bool           // it is the member's first version
	current  []bool           // and its last
	run      []int64          // that wrote each row last
	members  int32
}

// newRegister returns a register in which keys in steps from low to high are found by their place.
func newRegister(low, high, step int64) *register {
	return &register{
		low:  low,
		step: step,
		near: make([]int32, max(0, min((high-low)/step+1, 1<<26))),
		far:  map[int64]int32{},
	}
}

// place returns the place of a key that is found by it.
func (r *register) place(key int64) (at int64, near bool) {
	at = key - r.low
	if at < 0 || at%r.step != 0 {
		return 0, false
	}
	at /= r.step
	return at, at < int64(len(r.near))
}

// find returns the number of the row with a key.
func (r *register) find(key int64) (int32, bool) {
	if at, near := r.place(key); near {
		n := r.near[at]
		return n - 1, n > 0
	}
	n, ok := r.far[key]
	return n - 1, ok
}

// add returns a row's key the next number, or says false if another row has the key.
func (r *register) add(key int64) bool {
	if _, known := r.find(key); known {
		return false
	}
	n := int32(len(r.member)) + 1
	if at, near := r.place(key); near {
		r.near[at] = n
	} else {
		r.far[key] = n
	}
	return true
}

// rewritten returns the last run that wrote to the member of a row.
func (r *register) rewritten(n int32) int64 {
	if r.run == nil { // somebody else has written it
		return 0
	}
	last := r.run[n]
	for i := n - 1; i >= 0 && r.member[i] == r.member[n]; i-- {
		last = max(last, r.run[i])
	}
	for i := n + 1; int(i) < len(r.member) && r.member[i] == r.member[n]; i++ {
		last = max(last, r.run[i])
	}
	return last
}

// name keeps what is asked for when a star is held against its sources.
func (r *register) name(natural uint64, key int64, first bool) {
	if first {
		if r.named == nil {
			r.named = map[uint64]int32{}
		}
		r.named[natural] = int32(len(r.key))
	}
	r.natural, r.key = append(r.natural, natural), append(r.key, key)
}

// versions returns the keys of all versions of the member with a natural key.
func (r *register) versions(natural uint64) []int64 {
	n, ok := r.named[natural]
	if !ok {
		return nil
	}
	end := n + 1
	for int(end) < len(r.member) && r.member[end] == r.member[n] {
		end++
	}
	return r.key[n:end]
}

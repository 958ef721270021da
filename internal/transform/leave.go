package transform

import (
	"strings"
	"sync"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/source"
)

// leaver returns what takes the rows out of batches of some fields that the source leaves out, and counts them; nil if
// it leaves out none. What is wrong with a row that is read makes no difference, since it is not meant; a row of
// another source that is set aside there stays. It may be called by any number of goroutines.
func (f *Flow) leaver(fields []column.Field) func(b *column.Batch) {
	if f.of.LeaveOut == nil {
		return nil
	}
	named := make([]column.Field, len(fields)) // as the conditions name them
	for k, c := range fields {
		named[k] = c
		if f.of.Reads() && !f.of.TypesItself() {
			name, text := strings.CutPrefix(c.Name, source.AsText(""))
			if named[k].Name = name; !text {
				named[k].Name = "" // its text has the name
			}
		}
	}
	pool := sync.Pool{New: func() any {
		programs := make([]*expr.Program, len(f.of.LeaveOut))
		for k, r := range f.of.LeaveOut {
			programs[k], _ = r.Condition.Compile(named) // which was checked
		}
		return programs
	}}
	return func(b *column.Batch) {
		programs := pool.Get().([]*expr.Program)
		defer pool.Put(programs)
		var out []bool
		for k, p := range programs {
			result, n := p.Eval(b), int64(0)
			for i := range b.N {
				if result.Fault(i) != "" || !result.True(i) || !f.of.Reads() && b.Bad(i) {
					continue
				}
				if out == nil {
					out = make([]bool, b.N)
				}
				if !out[i] {
					out[i] = true
					n++
				}
			}
			f.leaves[k].Add(n)
			f.read.in.Add(n)
			f.read.left.Add(n)
		}
		if out != nil {
			b.Keep(func(i int) bool { return !out[i] })
		}
	}
}

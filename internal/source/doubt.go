package source

import (
	"fmt"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/parse"
	"ironmonger/internal/star"
	"slices"
	"strings"
	"sync"
)

// doubts are values that can be read in several ways, and values that do not fit and are taken for something else, by
// the fields that have them.
type doubts struct {
	mu    sync.Mutex
	of    map[int]*doubt
	unfit map[int]*doubt
}

type doubt struct {
	values int64
	first  diag.Place
	text   string
}

// doubt notes a value that another layout of its column reads as something else.
func (f *Files) doubt(k int, at diag.Place, text string) {
	f.doubts.mu.Lock()
	defer f.doubts.mu.Unlock()
	f.note(&f.doubts.of, k, at, text)
}

// replace takes a value that does not fit its type for what the model says, and reports whether it says something.
func (f *Files) replace(b *column.Batch, n, k int, reader *parse.Reader, at diag.Place, text string) bool {
	if k >= len(f.unfit) || f.unfit[k].IsUsual() {
		return false
	}
	c := &b.Cols[k]
	if at := f.unread[k]; at >= 0 {
		b.Cols[at].Int[n] = 1
	}
	if c.SetNull(n); f.unfit[k].Value != nil && parse.NewReader(reader.Zone()).Set(c, n, f.unfit[k].Value.Text) != nil {
		return false
	}
	f.doubts.mu.Lock()
	defer f.doubts.mu.Unlock()
	f.note(&f.doubts.unfit, k, at, text)
	return true
}

// note counts a value of a field, and keeps the first.
func (f *Files) note(list *map[int]*doubt, k int, at diag.Place, text string) {
	if *list == nil {
		*list = map[int]*doubt{}
	}
	d := (*list)[k]
	if d == nil {
		d = &doubt{first: at, text: strings.Clone(text)}
		(*list)[k] = d
	}
	if d.values++; f.before(at, d.first) {
		d.first, d.text = at, strings.Clone(text)
	}
}

// before reports whether a place is read before another one.
func (f *Files) before(a, b diag.Place) bool {
	if a.File == b.File {
		return a.Line < b.Line
	}
	at := func(name string) int { return slices.IndexFunc(f.files, func(x *file) bool { return x.name == name }) }
	return at(a.File) < at(b.File)
}

// Notes lists what people should know of the values, although nothing is wrong with a row.
func (f *Files) Notes() []string {
	f.doubts.mu.Lock()
	defer f.doubts.mu.Unlock()
	var notes []string
	if len(f.files) == 0 && f.in.mayLack(f.of) && len(f.in.skip) == 0 && len(f.in.Held([]*star.Source{f.of})) == 0 {
		notes = append(notes, fmt.Sprintf("source %s: no file has come", f.of.Text))
	}
	notes = append(notes, f.correctionNotes()...)
	for k := range f.fields {
		if d := f.doubts.of[k]; d != nil {
			notes = append(notes, fmt.Sprintf("source %s: %s: several layouts can read %d of the values, and the first one counts; for example %s (%s)",
				f.of.Text, f.fields[k].Name, d.values, diag.Printable(d.text), d.first))
		}
		if d := f.doubts.unfit[k]; d != nil {
			instead := "nothing"
			if f.unfit[k].Unread {
				instead = "unreadable"
			}
			if v := f.unfit[k].Value; v != nil {
				instead = v.Text
			}
			notes = append(notes, fmt.Sprintf("source %s: %s: %d of the values do not fit its type and are taken for %s; for example %s (%s)",
				f.of.Text, f.fields[k].Name, d.values, instead, diag.Clip(diag.Printable(d.text), 60), d.first))
		}
	}
	return notes
}

package transform

import "ironmonger/internal/star"

// Wanted returns, for each source that a step of the model reads, the columns that steps take of it in the end, or that
// sources which are made of it or completed by it do. What is wrong with others makes no difference to a load.
func Wanted(m *star.Model) map[*star.Source]map[string]bool {
	w := wanted{}
	for _, d := range m.Dimensions {
		if d.Source != nil {
			w.add(d.Source, d.Takes())
		}
		if d.Aliases != nil {
			w.whole(d.Aliases.Source)
		}
	}
	for _, f := range m.Facts {
		w.add(f.Source, f.Takes())
	}
	return w
}

type wanted map[*star.Source]map[string]bool

// whole notes that all columns of a source are taken.
func (w wanted) whole(s *star.Source) {
	var all []string
	for _, f := range s.Shaped() {
		all = append(all, f.Name)
	}
	w.add(s, all)
}

// add notes that columns of a source are taken, and what is needed for them of those that it is made of or completed
// by.
func (w wanted) add(s *star.Source, columns []string) {
	if w[s] == nil {
		w[s] = map[string]bool{}
	}
	for _, name := range columns {
		w[s][name] = true
	}
	need := needed(s, func(name string) bool { return w[s][name] })
	var theirs []string
	for _, c := range s.Columns {
		if need[c.Text] {
			theirs = append(theirs, c.InFile())
		}
	}
	told := map[*star.Source]bool{}
	for _, o := range s.Made() {
		told[o] = true
		w.add(o, theirs)
	}
	for _, j := range s.Joins {
		if j.Source == nil {
			continue
		}
		if told[j.Source] = true; !matters(j, need) {
			continue
		}
		of := map[string]bool{j.Effective: true}
		for _, by := range j.By {
			of[by[0]] = true
		}
		if j.Range != nil {
			of[j.Range.From], of[j.Range.To] = true, true
		}
		for _, b := range j.Bring {
			of[b.From] = of[b.From] || need[b.Name]
		}
		delete(of, "")
		var list []string
		for name, is := range of {
			if is {
				list = append(list, name)
			}
		}
		w.add(j.Source, list)
	}
	for _, o := range s.Others() { // lists that drive reading, holidays, aliases
		if !told[o] {
			w.whole(o)
		}
	}
}

package star

import (
	"cmp"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/locale"
	"ironmonger/internal/parse"
)

// layouts reads the layouts of a source and of its columns.
func (c *checker) layouts(s *Source, path string) {
	if s.CSV.layouts == nil && !slices.ContainsFunc(s.Columns, func(c Column) bool { return c.layouts != nil }) {
		return
	}
	of := func(kind column.Kind) parse.Layouts {
		return c.compileLayouts(s, s.CSV.layouts[kind], kind, path+".csv."+column.Type{Kind: kind}.String())
	}
	st := &s.CSV.Style
	st.Date, st.Timestamp, st.Time = of(column.Date), of(column.Timestamp), of(column.Time)
	for k := range s.Columns {
		col := &s.Columns[k]
		if col.layouts == nil {
			continue
		}
		at := path + ".columns." + col.Text + ".layout"
		if kind := col.Type.Kind; s.Read == nil || s.TypesItself() || kind != column.Date && kind != column.Timestamp && kind != column.Time {
			c.errorf(col.layouts[0].At, at, "a layout is for a date, a timestamp or a time in a text file")
			continue
		}
		col.Layouts = c.compileLayouts(s, col.layouts, col.Type.Kind, at)
	}
}

// compileLayouts reads layouts with the words of a source.
func (c *checker) compileLayouts(s *Source, texts []Name, kind column.Kind, path string) (list parse.Layouts) {
	if len(texts) == 0 {
		return nil
	}
	names, _ := locale.Find(cmp.Or(s.CSV.language, "en")) // which was found before
	words := parse.Words{Century: s.CSV.century, Months: parse.MonthNames(
		names.Months.Wide.Format, names.Months.Wide.StandAlone, names.Months.Short.Format, names.Months.Short.StandAlone)}
	for _, w := range texts {
		l, err := parse.NewLayout(w.Text, kind, words)
		if err != nil {
			c.errorf(w.At, path, "%v", err)
			continue
		}
		list = append(list, l)
	}
	return list
}

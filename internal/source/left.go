package source

import (
	"iter"

	"ironmonger/internal/star"
)

// Left is rows of a file that is not there any more, as they stood in it: they are read as the file was.
type Left struct {
	FileOf
	Head []string // the first record of the file; nil of JSON objects
	Rows []LeftRow
}

// LeftRow is a row as it stood in its file.
type LeftRow struct {
	Line int64
	Text string
}

// Keeps reports whether rows of s can be read from what was kept of them: those of text files.
func Keeps(s *star.Source) bool {
	return s.Database == nil && s.Calendar == nil && s.Clock == nil && (s.HasRecords() || s.HasObjects()) && s.Format != star.Workbook
}

// Fits reports whether the columns of a source are found in the first record of a file.
func Fits(s *star.Source, head []string) bool {
	for k, c := range s.Columns {
		n := 0
		for _, name := range append([]string{c.InFile()}, c.Others...) {
			if n > 0 {
				break
			}
			for _, there := range head {
				if there == name {
					n++
				}
			}
		}
		if n == 0 && c.Optional {
			n = 1
		}
		at := c.Position
		if at == 0 && s.CSV.Headless {
			at = k + 1
		}
		if at > len(head) || at == 0 && n != 1 {
			return false
		}
	}
	return true
}

// With returns inputs of the same model that have rows of files, too, that are not there any more.
func (in *Inputs) With(left []Left) *Inputs {
	if len(left) == 0 {
		return in
	}
	other := in.Without(in.skip)
	other.marks, other.left = in.marks, left
	return other
}

// leftOf returns the files of a source that are not there any more, of which rows are read.
func (in *Inputs) leftOf(s *star.Source) files {
	var list files
	for k := range in.left {
		if x := &in.left[k]; x.Source == s.Text {
			list = append(list, &file{path: x.Name, name: x.Name, left: x})
		}
	}
	return list
}

// remains yields the rows that are left of a file, each as a piece of its own, because others stood between them.
func (f *Files) remains(file *file) iter.Seq2[*piece, error] {
	return func(yield func(*piece, error) bool) {
		for _, r := range file.left.Rows {
			if !yield(&piece{of: f, file: file, data: []byte(r.Text), line: r.Line - 1}, nil) {
				return
			}
		}
	}
}

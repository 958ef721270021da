package strays

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ironmonger/internal/ledger"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Written is a file of rows that were set aside, to be corrected.
type Written struct {
	Source string `json:"source"`
	File   string `json:"file"`
	Rows   int64  `json:"rows"`
}

// Unwritten is rows that cannot be written out, and why.
type Unwritten struct {
	Source string `json:"source"`
	Rows   int64  `json:"rows"`
	Reason string `json:"reason"`
}

// Write writes the rows that were set aside into a folder, as files of corrections: one for each source and header, in
// the form of the source's files. Files that are there are not overwritten.
func Write(ctx context.Context, r warehouse.Reader, m *star.Model, root *os.Root, folder string) ([]Written, []Unwritten, error) {
	w := &corrector{model: m, inputs: &source.Inputs{Model: m, Root: root}, files: map[string]*correctedFile{}, heads: map[string][]string{}}
	var err error
	if w.kept, err = ledger.Heads(ctx, r); err != nil {
		return nil, nil, err
	}
	met := map[string]*pending{}
	var order []*pending
	err = ledger.EachAside(ctx, r, ledger.Waiting, func(a *ledger.Aside, _ int64) error {
		id := fmt.Sprintf("%s\x00%s\x00%d\x00%s", a.Source, a.File, a.Line, a.Hash)
		if p := met[id]; p != nil { // another step reads it, too
			p.because = append(p.because, a.Reasons())
			return nil
		}
		met[id] = &pending{*a, []string{a.Reasons()}}
		order = append(order, met[id])
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	for _, p := range order {
		w.add(p)
	}
	written, err := w.write(folder)
	return written, w.unwritten, err
}

// pending is a row, and why each step that reads it has set it aside.
type pending struct {
	ledger.Aside
	because []string
}

type corrector struct {
	model     *star.Model
	inputs    *source.Inputs
	kept      map[string][]string
	heads     map[string][]string // of files, as they stand
	files     map[string]*correctedFile
	order     []string
	unwritten []Unwritten
}

// correctedFile is what is to be written into a file.
type correctedFile struct {
	of    *star.Source
	lines []string
}

// add adds a row to the file of its source.
func (w *corrector) add(p *pending) {
	at := slices.IndexFunc(w.model.Sources, func(s *star.Source) bool { return s.Text == p.Source })
	if at < 0 || !source.Keeps(w.model.Sources[at]) {
		w.not(p.Source, "rows of text files alone can be corrected")
		return
	}
	s := w.model.Sources[at]
	head, ok := w.head(s, p.File)
	switch {
	case !p.Whole:
		w.not(p.Source, "the row is longer than what is kept of it")
		return
	case !ok:
		w.not(p.Source, "its file is not there any more, and its header is not known")
		return
	}
	first := source.CorrectionHead(s, head)
	id := s.Text + "\x00" + first
	f := w.files[id]
	if f == nil {
		f = &correctedFile{of: s}
		if w.files[id], w.order = f, append(w.order, id); first != "" {
			f.lines = append(f.lines, first)
		}
	}
	f.lines = append(f.lines, source.WriteCorrection(s, p.Content, p.File, p.Line, strings.Join(slices.Compact(p.because), "; ")))
}

// not counts a row that cannot be written.
func (w *corrector) not(source, reason string) {
	for k := range w.unwritten {
		if u := &w.unwritten[k]; u.Source == source && u.Reason == reason {
			u.Rows++
			return
		}
	}
	w.unwritten = append(w.unwritten, Unwritten{source, 1, reason})
}

// head returns the header of a file: as it stands, or as it was kept.
func (w *corrector) head(s *star.Source, file string) ([]string, bool) {
	if s.HasObjects() {
		return nil, true
	}
	if head, met := w.heads[file]; met {
		return head, head != nil
	}
	head, ok := w.inputs.Head(s, file)
	if !ok {
		head, ok = w.kept[file]
	}
	w.heads[file] = head
	return head, ok
}

// write writes the files.
func (w *corrector) write(folder string) ([]Written, error) {
	written := []Written{}
	if len(w.order) == 0 {
		return written, nil
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	number := map[string]int{}
	for _, id := range w.order {
		f := w.files[id]
		end := ".csv"
		if f.of.HasObjects() {
			end = ".jsonl"
		}
		name := f.of.Text
		if number[name]++; number[name] > 1 {
			name += fmt.Sprintf("-%d", number[name])
		}
		path := filepath.Join(folder, name+end)
		text, err := source.Encoded(f.of, strings.Join(f.lines, "\n")+"\n")
		if err != nil {
			return written, err
		}
		out, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if os.IsExist(err) {
			return written, fmt.Errorf("%s is there already, and is not overwritten", path)
		}
		if err == nil {
			_, err = out.Write(text)
			if cerr := out.Close(); err == nil {
				err = cerr
			}
		}
		if err != nil {
			return written, err
		}
		rows := int64(len(f.lines))
		if !f.of.HasObjects() {
			rows--
		}
		written = append(written, Written{f.of.Text, path, rows})
	}
	return written, nil
}

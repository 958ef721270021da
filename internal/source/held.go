package source

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"ironmonger/internal/diag"
	"ironmonger/internal/star"
)

// held is the files that a run leaves for a later one, with the reason; "" of those that it does not leave. What is
// decided of a file holds for the whole run, whichever step asks.
type held struct {
	mu sync.Mutex
	of map[FileOf]string
}

// holding returns the files that are held, which all inputs that are made of these share.
func (in *Inputs) holding() *held {
	in.holds.CompareAndSwap(nil, &held{})
	return in.holds.Load()
}

// decide returns what was decided of a file, or decides now.
func (h *held) decide(f FileOf, now func() string) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.of == nil {
		h.of = map[FileOf]string{}
	}
	reason, ok := h.of[f]
	if !ok {
		reason = now()
		h.of[f] = reason
	}
	return reason
}

// finished removes the files from found that are still being written, as far as the source says how that is seen.
func (in *Inputs) finished(s *star.Source, dir string, found files) files {
	if s.Settle == 0 && s.Companion == "" {
		return found
	}
	return slices.DeleteFunc(found, func(f *file) bool {
		if f.left != nil {
			return false
		}
		if s.Companion != "" && strings.HasSuffix(f.path, s.Companion) {
			return true
		}
		return in.holding().decide(FileOf{s.Text, f.name}, func() string {
			archive, _ := inArchive(dir, f.path)
			return unfinished(s, filepath.Join(dir, archive), time.Now())
		}) != ""
	})
}

// unfinished says why a file is taken to be still written; "" if it is not.
func unfinished(s *star.Source, path string, now time.Time) string {
	info, err := os.Stat(path)
	if err != nil {
		return "" // opening it will tell
	}
	if s.Settle > 0 && now.Sub(info.ModTime()) < s.Settle {
		return fmt.Sprintf("it was written at %s, less than %s ago", info.ModTime().Format(time.DateTime), s.Settle)
	}
	if s.Companion == "" {
		return ""
	}
	for _, name := range []string{path + s.Companion, strings.TrimSuffix(path, filepath.Ext(path)) + s.Companion} {
		if _, err := os.Stat(name); err == nil {
			return ""
		}
	}
	return fmt.Sprintf("there is no %s%s yet", filepath.Base(path), s.Companion)
}

// passOver leaves a file that cannot be opened, and reports whether the source says so.
func (in *Inputs) passOver(s *star.Source, f *file, why diag.List) bool {
	if !in.mayLack(s) || f.left != nil {
		return false
	}
	return in.holding().decide(FileOf{s.Text, f.name}, func() string { return why[0].Message }) != ""
}

// isHeld reports whether a file was left.
func (in *Inputs) isHeld(s *star.Source, f *file) bool {
	h := in.holding()
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.of[FileOf{s.Text, f.name}] != "" && f.left == nil
}

// Held lists the files that are left for a later run, of some sources or, with nil, of all.
func (in *Inputs) Held(of []*star.Source) []FileOf {
	h := in.holding()
	h.mu.Lock()
	defer h.mu.Unlock()
	var list []FileOf
	for f, reason := range h.of {
		if reason != "" && (of == nil || slices.ContainsFunc(of, func(s *star.Source) bool { return s.Text == f.Source })) {
			list = append(list, f)
		}
	}
	slices.SortFunc(list, func(a, b FileOf) int { return strings.Compare(a.Source+"\x00"+a.Name, b.Source+"\x00"+b.Name) })
	return list
}

// mostHeldNotes is how many files of a source are told one by one.
const mostHeldNotes = 5

// HeldNotes says which files of a source are left for a later run, and why.
func (in *Inputs) HeldNotes(s *star.Source) []string {
	files := in.Held([]*star.Source{s})
	h := in.holding()
	h.mu.Lock()
	reasons := maps.Clone(h.of)
	h.mu.Unlock()
	var notes []string
	for k, f := range files {
		if k == mostHeldNotes {
			notes = append(notes, fmt.Sprintf("source %s: %d more files are left for a later load", s.Text, len(files)-k))
			break
		}
		notes = append(notes, fmt.Sprintf("source %s: %s is left for a later load: %s", s.Text, f.Name, reasons[f]))
	}
	return notes
}

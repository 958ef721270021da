package source

import (
	"errors"
	"io/fs"
	"iter"
	"sync"

	"ironmonger/internal/star"
)

// kept is what an [Inputs] remembers: the files as they were when it first met them, and the pieces of text files and
// tables that are read more than once, as far as there is room.
type kept struct {
	mu     sync.Mutex
	met    map[string]fs.FileInfo
	pieces map[keptFile]any // slices of pieces
	room   int64            // taken
}

// keptFile is what is really opened, a file or a query with its arguments, as a source cuts it.
type keptFile struct{ source, opened string }

// maxKept is how many bytes of files may be kept in memory.
const maxKept = 256 << 20

var errChanged = errors.New("the file was changed since the run began")

// known checks that a file is as it was when it was first met.
func (in *Inputs) known(path string, info fs.FileInfo) error {
	in.kept.mu.Lock()
	defer in.kept.mu.Unlock()
	first := in.kept.met[path]
	if first == nil {
		if in.kept.met == nil {
			in.kept.met = map[string]fs.FileInfo{}
		}
		in.kept.met[path] = info
		return nil
	}
	if differ(first, info) {
		return errChanged
	}
	return nil
}

// once yields pieces as they are read or, where an earlier reader of the same has come to its end, as they were kept,
// made again for the new reader. opened names what is really opened, and nothing else.
func once[P any](
	in *Inputs,
	s *star.Source,
	opened string,
	read iter.Seq2[P, error],
	size func(P) int64,
	again func(P) P,
) iter.Seq2[P, error] {
	if in.Anew || in.Model.Uses(s) < 2 || in.given[s] != nil {
		return read
	}
	return func(yield func(P, error) bool) {
		id := keptFile{s.Text, opened}
		in.kept.mu.Lock()
		there, ok := in.kept.pieces[id].([]P)
		in.kept.mu.Unlock()
		if ok {
			for _, p := range there {
				if !yield(again(p), nil) {
					return
				}
			}
			return
		}
		var mine []P
		taken, whole := int64(0), false
		defer func() {
			if !whole {
				in.give(taken)
			}
		}()
		fits := true
		for p, err := range read {
			if n := int64(0); err == nil && fits {
				if n = size(p); in.take(n) {
					mine, taken = append(mine, p), taken+n
				} else {
					mine, fits = nil, false
				}
			}
			if !yield(p, err) || err != nil {
				return
			}
		}
		if whole = fits; !whole {
			return
		}
		in.kept.mu.Lock()
		defer in.kept.mu.Unlock()
		if in.kept.pieces == nil {
			in.kept.pieces = map[keptFile]any{}
		}
		in.kept.pieces[id] = mine
	}
}

// take takes room for so many bytes, if there is any; give gives it back.
func (in *Inputs) take(n int64) bool {
	in.kept.mu.Lock()
	defer in.kept.mu.Unlock()
	if in.kept.room+n > maxKept {
		return false
	}
	in.kept.room += n
	return true
}

func (in *Inputs) give(n int64) {
	in.kept.mu.Lock()
	in.kept.room -= n
	in.kept.mu.Unlock()
}

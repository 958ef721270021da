package source

import (
	"errors"
	"io/fs"
	"iter"
	"os"
	"sync"
)

// kept is what an [Inputs] remembers: the files as they were when it first met them, and the pieces of text files that
// are read more than once, as far as there is room.
type kept struct {
	mu     sync.Mutex
	met    map[string]fs.FileInfo
	pieces map[keptFile][]*piece
	room   int64 // taken
}

// keptFile is a file as a source cuts it.
type keptFile struct {
	source string
	path   string
}

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
	if !os.SameFile(first, info) || first.Size() != info.Size() || !first.ModTime().Equal(info.ModTime()) {
		return errChanged
	}
	return nil
}

// once yields the pieces of a file, read or, where an earlier reader has come to its end, kept.
func (in *Inputs) once(f *Files, file *file, read iter.Seq2[*piece, error]) iter.Seq2[*piece, error] {
	if in.Model.Uses(f.of) < 2 {
		return read
	}
	return func(yield func(*piece, error) bool) {
		id := keptFile{f.of.Text, file.path}
		in.kept.mu.Lock()
		there, ok := in.kept.pieces[id]
		in.kept.mu.Unlock()
		if ok {
			for _, p := range there {
				if !yield(&piece{of: f, file: file, data: p.data, line: p.line, tooLong: p.tooLong, bytes: p.bytes}, nil) {
					return
				}
			}
			return
		}
		var mine []*piece
		size, fits := int64(0), true
		defer func() {
			if mine == nil {
				in.give(size)
			}
		}()
		for p, err := range read {
			if err == nil && fits {
				if fits = in.take(int64(len(p.data))); fits {
					mine, size = append(mine, p), size+int64(len(p.data))
				} else {
					mine = nil
				}
			}
			if !yield(p, err) || err != nil {
				mine = nil
				return
			}
		}
		if !fits {
			mine = nil
			return
		}
		in.kept.mu.Lock()
		defer in.kept.mu.Unlock()
		if in.kept.pieces == nil {
			in.kept.pieces = map[keptFile][]*piece{}
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

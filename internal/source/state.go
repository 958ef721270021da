package source

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

// FileOf is a file that a source reads.
type FileOf struct{ Source, Name string }

// State is how a file was found, without being opened.
type State struct {
	FileOf
	Path     string // where it is
	Size     int64
	Modified time.Time
	Changed  string // what the system says of the file's last change, in a form of its own
}

// Generated is the name of the file that a calendar would be.
const Generated = "calendar"

// States returns the files of a source in order, as they are found. The source reads files.
func (in *Inputs) States(s *star.Source) ([]State, error) {
	if c := s.Calendar; c != nil { // which the model tells
		c = in.DaysOf(c)
		return []State{{FileOf: FileOf{s.Text, Generated}, Size: c.To - c.From + 1, Changed: fmt.Sprint(c.From)}}, nil
	}
	if s.Clock != nil {
		return []State{{FileOf: FileOf{s.Text, Generated}, Size: s.Clock.Times(), Changed: "never"}}, nil
	}
	dir, found, errs := in.locate(s)
	if err := errs.Err(); err != nil {
		return nil, err
	}
	if in.mayLack(s) { // some cannot be opened, perhaps
		f, err := in.openText(s, func(string) bool { return false })
		if err != nil {
			return nil, err
		}
		found = f.files
	}
	states := make([]State, len(found))
	for k, f := range found {
		archive, _ := inArchive(dir, f.path)
		info, err := os.Stat(filepath.Join(dir, archive))
		if err != nil {
			return nil, err
		}
		states[k] = State{
			FileOf:   FileOf{s.Text, f.name},
			Path:     filepath.Join(dir, f.path),
			Size:     info.Size(),
			Modified: info.ModTime(),
			Changed:  fmt.Sprint(info.ModTime().UnixNano(), changeOf(info)),
		}
	}
	return states, nil
}

// Content returns a digest of what is in a file: once it is decompressed, if it can be.
func Content(path string) (string, error) {
	archive, entry := inArchive("", path)
	f, err := os.Open(archive)
	if err != nil {
		return "", err
	}
	t, err := newContent(f, archive, entry)
	if err != nil {
		return "", err
	}
	defer t.Close()
	h := sha256.New()
	if err = t.layers(""); err == nil {
		_, err = io.Copy(h, t)
	}
	if err != nil { // reading it will tell
		h.Reset()
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return "", err
		}
		if _, err := io.Copy(h, f); err != nil {
			return "", err
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:16]), nil
}

// Without returns inputs of the same model that pass over some files.
func (in *Inputs) Without(skip map[FileOf]bool) *Inputs {
	other := &Inputs{
		Model: in.Model, Root: in.Root, Piece: in.Piece, Workers: in.Workers, Places: in.Places, Memory: in.Memory, Star: in.Star, Days: in.Days,
		came: in.came, arriving: in.arriving, skip: skip, left: in.left, given: in.given,
	}
	other.delivered.on = in.noted()
	other.holds.Store(in.holding())
	return other
}

// InArrival returns inputs of the same model in which files of some sources are read in the order in which they came.
func (in *Inputs) InArrival(came func(name string) int64, of []*star.Source) *Inputs {
	other := in.Without(in.skip)
	other.came, other.arriving = came, of
	return other
}

// Having returns inputs of the same model in which a calendar has other days.
func (in *Inputs) Having(c *star.Calendar, from, to int64) *Inputs {
	other := in.Without(nil)
	other.Days = &Days{}
	other.Days.Set(c, from, to)
	return other
}

// Over returns inputs of the same model that see a star.
func (in *Inputs) Over(s Star) *Inputs {
	other := in.Without(in.skip)
	other.Star, other.marks = s, in.marks
	return other
}

// Since returns inputs of the same model that read only rows of some tables and queries that are not before a value.
func (in *Inputs) Since(marks map[FileOf]star.Value) *Inputs {
	newer := in.Without(nil)
	newer.marks = marks
	return newer
}

// reached is the greatest value that was read of tables and queries in the column by which new rows are known.
type reached struct {
	mu sync.Mutex
	of map[FileOf]*column.Column
}

// Reached returns the greatest value that was read of a table or query in the column by which new rows are known; nil
// if no row had one.
func (in *Inputs) Reached(f FileOf) *column.Column {
	in.reached.mu.Lock()
	defer in.reached.mu.Unlock()
	return in.reached.of[f]
}

func (in *Inputs) reach(f FileOf, value *column.Column) {
	if len(value.Null) == 0 {
		return
	}
	in.reached.mu.Lock()
	defer in.reached.mu.Unlock()
	if in.reached.of == nil {
		in.reached.of = map[FileOf]*column.Column{}
	}
	in.reached.of[f] = value
}

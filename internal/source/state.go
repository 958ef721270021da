package source

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"ironmonger/internal/star"
)

// FileOf is a file that a source reads.
type FileOf struct{ Source, Name string }

// State is how a file was found, without being opened.
type State struct {
	FileOf
	Size     int64
	Modified time.Time
	Changed  string // what the system says of the file's last change, in a form of its own
}

// States returns the files of a source in order, as they are found. The source reads files.
func (in *Inputs) States(s *star.Source) ([]State, error) {
	dir, found, errs := in.locate(s)
	if err := errs.Err(); err != nil {
		return nil, err
	}
	states := make([]State, len(found))
	for k, f := range found {
		info, err := os.Stat(filepath.Join(dir, f.path))
		if err != nil {
			return nil, err
		}
		states[k] = State{
			FileOf:   FileOf{s.Text, f.name},
			Size:     info.Size(),
			Modified: info.ModTime(),
			Changed:  fmt.Sprint(info.ModTime().UnixNano(), changeOf(info)),
		}
	}
	return states, nil
}

// Without returns inputs of the same model that pass over some files.
func (in *Inputs) Without(skip map[FileOf]bool) *Inputs {
	return &Inputs{Model: in.Model, Root: in.Root, Piece: in.Piece, Workers: in.Workers, Places: in.Places, skip: skip}
}

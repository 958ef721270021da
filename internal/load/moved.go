package load

import (
	"context"
	"path/filepath"

	"ironmonger/internal/ledger"
	"ironmonger/internal/source"
	"ironmonger/internal/warehouse"
)

// findMoved finds which of the files that are read had another name before, where the order in which files came
// decides: a file that is new, and has what another one had that is not there any more, or has something else now. It
// keeps its place in the order. The contents of all files that are read are returned by their names.
func (w *work) findMoved(ctx context.Context, tx warehouse.Tx) (map[string]string, error) {
	contents := map[string]string{}
	if w.reading == nil {
		return contents, nil
	}
	for _, f := range w.reading.states {
		if w.reading.skip[f.FileOf] || f.Path == "" {
			continue
		}
		content, err := source.Content(f.Path)
		if err != nil {
			return nil, err
		}
		contents[f.Name] = content
	}
	known, err := ledger.FilesKnown(ctx, tx)
	if err != nil {
		return nil, err
	}
	names, err := ledger.FileNames(ctx, tx)
	if err != nil {
		return nil, err
	}
	there := map[string]bool{} // files that the ledger knew before the run
	for _, k := range known {
		if k.FirstRun != w.entry.ID || k.MovedFrom != 0 {
			there[ledger.Uncompressed(names[k.Number])] = true
		}
	}
	taken := map[int64]bool{}
	var moved []ledger.File
	for _, f := range w.reading.states {
		content, read := contents[f.Name]
		if !read || there[ledger.Uncompressed(f.Name)] {
			continue
		}
		for _, k := range known {
			if k.Content != content || k.FirstRun == w.entry.ID || taken[k.Number] || names[k.Number] != k.Name || w.stands(k, contents) {
				continue
			}
			taken[k.Number] = true
			moved = append(moved, ledger.File{Name: f.Name, Content: content, MovedFrom: k.Number})
			break
		}
	}
	return contents, ledger.Moved(ctx, tx, moved, w.entry.ID)
}

// stands reports whether a file is where it was and has what it had.
func (w *work) stands(k ledger.File, contents map[string]string) bool {
	if content, read := contents[k.Name]; read {
		return content == k.Content
	}
	path := filepath.FromSlash(ledger.Uncompressed(k.Name))
	if !filepath.IsAbs(path) {
		path = filepath.Join(w.inputs.Root.Name(), path)
	}
	for _, packed := range []string{".gz", ".zst"} { // it has been compressed, and is the same
		if source.Exists(path + packed) {
			return true
		}
	}
	if !source.Exists(path) {
		return false
	}
	content, err := source.Content(path)
	return err != nil || content == k.Content
}

package source

import (
	"archive/zip"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
)

// A zip archive is a folder whose name ends in .zip: its files are named below it, as in exports.zip/trips-*.csv.

// inArchive splits the name of a file below a folder at the archive in which it is; entry is "" if it is in none.
func inArchive(dir, name string) (archive, entry string) {
	for at := 0; ; {
		end := strings.Index(strings.ToLower(name[at:]), ".zip/")
		if end < 0 {
			return name, ""
		}
		at += end + len(".zip")
		if info, err := os.Stat(filepath.Join(dir, name[:at])); err == nil && info.Mode().IsRegular() {
			return name[:at], name[at+1:]
		}
	}
}

// enter goes to an entry of the archive that is open.
func (t *content) enter(entry string) error {
	archive, err := zip.NewReader((*counterAt)(t), t.info.Size())
	if err != nil {
		return &documentError{"the zip archive is damaged: " + err.Error()}
	}
	var found []*zip.File
	for _, f := range archive.File {
		if entryName(f) == entry {
			found = append(found, f)
		}
	}
	switch {
	case len(found) == 0:
		return fs.ErrNotExist
	case len(found) > 1:
		return &documentError{"the archive has several files of this name"}
	case found[0].Flags&1 != 0:
		return &documentError{"the file is encrypted in its archive"}
	}
	in, err := found[0].Open()
	if err != nil {
		return &documentError{"the zip data is damaged: " + err.Error()}
	}
	t.stored, t.compress, t.close = in, "zip", func() { in.Close() }
	return nil
}

// entryName is the name of an entry with slashes, whatever wrote it.
func entryName(f *zip.File) string { return strings.ReplaceAll(f.Name, `\`, "/") }

// findInArchives lists the files of archives that a pattern names.
func findInArchives(root *os.Root, pattern string) ([]string, error) {
	end := strings.Index(strings.ToLower(pattern), ".zip/")
	if end < 0 {
		return nil, nil
	}
	outer, inner := pattern[:end+len(".zip")], pattern[end+len(".zip/"):]
	archives, err := fs.Glob(root.FS(), outer)
	var names []string
	for _, archive := range archives {
		entries, aerr := Entries(root, archive)
		if aerr != nil {
			return nil, aerr
		}
		for _, entry := range entries {
			if ok, merr := path.Match(inner, entry); merr != nil {
				return nil, merr
			} else if ok {
				names = append(names, archive+"/"+entry)
			}
		}
	}
	return names, err
}

// Entries lists the files in a zip archive below a folder, in the byte order of their names. A folder has none.
func Entries(root *os.Root, archive string) ([]string, error) {
	in, err := root.Open(archive)
	if err != nil {
		return nil, errors.New(reason(err))
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return nil, err
	}
	z, err := zip.NewReader(in, info.Size())
	if err != nil {
		return nil, fmt.Errorf("%s is not a zip archive, or it is damaged: %v", archive, err)
	}
	var names []string
	for _, f := range z.File {
		if name := entryName(f); !strings.HasSuffix(name, "/") {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

// Exists reports whether there is a file of a path, be it in an archive.
func Exists(path string) bool {
	archive, entry := inArchive("", path)
	in, err := os.Open(archive)
	if err != nil {
		return false
	}
	t, err := newContent(in, archive, entry)
	if err != nil {
		return false
	}
	t.Close()
	return true
}

package source

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"ironmonger/internal/star"
)

// encodings are those that a source may declare besides UTF-8, by their IANA names.
var encodings = map[string]encoding.Encoding{
	"iso-8859-1":   charmap.ISO8859_1,
	"windows-1252": charmap.Windows1252,
	"utf-16":       unicode.UTF16(unicode.LittleEndian, unicode.UseBOM),
}

// maxWindow bounds what a zstd file may ask to be kept of it.
const maxWindow = 64 << 20

// content is what stands in a file: decompressed where it is compressed, which its first bytes tell, and in UTF-8
// whatever it was written in.
type content struct {
	from     io.Reader
	stored   io.Reader // what is stored, compressed as it may be: the file, or an entry of the archive that it is
	in       *os.File
	info     fs.FileInfo
	path     string // of the file, without the entry
	compress string // what it is compressed with, or ""
	bytes    int64  // of the file that have been read
	above    int64  // lines that stand above the header, and have been passed over
	close    func()
	failed   error // what keeps it from being read to its end
}

var (
	gzipMagic = []byte{0x1f, 0x8b}
	zstdMagic = []byte{0x28, 0xb5, 0x2f, 0xfd}
)

var errNoFile = errors.New("this is a folder or a device, not a file")

// open opens a file that is to be read as text. What is wrong with it is an error of the file system, or speaks for
// itself.
func (f *Files) open(file *file) (*content, error) {
	t, err := openContent(f.dir, file.path)
	if err != nil {
		return nil, err
	}
	err = f.in.known(filepath.Join(f.dir, t.path), t.info)
	if err == nil {
		err = t.layers(f.csv.Encoding)
	}
	if err == nil {
		err = f.asText(t)
	}
	if err == nil && !f.lines && !f.csv.Header.IsFirst() {
		err = f.toHeader(t)
	}
	if err != nil {
		t.Close()
		return nil, err
	}
	return t, nil
}

// openContent opens a file below a folder, or an entry of an archive there, as it is stored.
func openContent(dir, name string) (*content, error) {
	archive, entry := inArchive(dir, name)
	in, err := os.OpenInRoot(dir, archive)
	if err != nil {
		return nil, err
	}
	return newContent(in, archive, entry)
}

// newContent looks at an open file, or at an entry of the archive that it is; it closes the file if that is impossible.
func newContent(in *os.File, path, entry string) (*content, error) {
	t := &content{in: in, path: path, close: func() {}}
	t.stored = (*counter)(t)
	var err error
	if t.info, err = in.Stat(); err == nil && !t.info.Mode().IsRegular() {
		err = errNoFile
	}
	if err == nil && entry != "" {
		err = t.enter(entry)
	}
	if err != nil {
		t.Close()
		return nil, err
	}
	return t, nil
}

// asText makes text of the formats that are none: records of CSV, or lines of JSON.
func (f *Files) asText(t *content) (err error) {
	switch f.of.Format {
	case star.JSON:
		t.from = newDocument(t.from)
	case star.XML:
		t.from = newXMLRecords(t.from, f.of.Record.Text)
	case star.Fixed:
		t.from = newFixed(t.from, f.of)
	case star.Workbook:
		var x *sheet
		if x, err = newSheet(t, f.of); err == nil {
			t.from = x
		}
	}
	return err
}

// layers puts what decompresses and decodes on top of a file.
func (t *content) layers(encoded string) error {
	start := make([]byte, 4)
	n, err := io.ReadFull(t.stored, start)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		t.failed = err
		return &documentError{t.plain()}
	}
	t.from = io.MultiReader(bytes.NewReader(start[:n]), t.stored)
	switch {
	case bytes.HasPrefix(start, gzipMagic):
		r, err := gzip.NewReader(t.from)
		if err != nil {
			return fmt.Errorf("this begins like gzip but is not gzip: %v", err)
		}
		t.from, t.compress = r, "gzip"
	case bytes.HasPrefix(start, zstdMagic):
		r, err := zstd.NewReader(t.from, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxWindow))
		if err != nil {
			return fmt.Errorf("this begins like zstd but is not zstd: %v", err)
		}
		outer := t.close
		t.from, t.compress, t.close = r, "zstd", func() { r.Close(); outer() }
	}
	if e := encodings[encoded]; e != nil {
		t.from = e.NewDecoder().Reader(t.from)
	}
	return nil
}

// counter counts the bytes read of a file.
type counter content

func (c *counter) Read(b []byte) (int, error) {
	n, err := c.in.Read(b)
	c.bytes += int64(n)
	return n, err
}

// counterAt counts the bytes read of a file that is read in any order.
type counterAt content

func (c *counterAt) ReadAt(b []byte, at int64) (int, error) {
	n, err := c.in.ReadAt(b, at)
	c.bytes += int64(n)
	return n, err
}

// Read reads on, and remembers what went wrong: io.ReadFull does not tell an end that comes too early for the file
// from one that comes too early for the reader.
func (t *content) Read(b []byte) (int, error) {
	n, err := t.from.Read(b)
	if err != nil && err != io.EOF {
		t.failed = err
	}
	return n, err
}

func (t *content) Close() {
	t.close()
	t.in.Close()
}

// plain says in plain words why a text cannot be read on.
func (t *content) plain() string {
	err := t.failed
	var path *fs.PathError
	var document *documentError
	switch {
	case errors.As(err, &document):
		return err.Error()
	case errors.As(err, &path) || t.compress == "":
		return reason(err)
	case errors.Is(err, io.ErrUnexpectedEOF):
		return "the file ends in the middle of its " + t.compress + " data"
	}
	return "the " + t.compress + " data is damaged: " + err.Error()
}

// changed reports whether the file is no longer the one that was opened.
func (f *Files) changed(file *file, t *content) bool {
	return changed(filepath.Join(f.dir, filepath.FromSlash(t.path)), t.in, t.info) ||
		file.info != nil && differ(file.info, t.info)
}

// changed reports whether a file is no longer the one that was opened, or has grown, shrunk or been written to since.
func changed(path string, opened *os.File, before fs.FileInfo) bool {
	now, err := opened.Stat()
	there, terr := os.Stat(path)
	return err != nil || terr != nil || !os.SameFile(now, there) || differ(now, before)
}

// differ reports whether two looks at a file saw different ones.
func differ(a, b fs.FileInfo) bool {
	return !os.SameFile(a, b) || a.Size() != b.Size() || !a.ModTime().Equal(b.ModTime())
}

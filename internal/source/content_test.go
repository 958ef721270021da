package source

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

func gzipped(t testing.TB, b []byte) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	if _, err := w.Write(b); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func zstded(t testing.TB, b []byte) []byte {
	w, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	return w.EncodeAll(b, nil)
}

// TestContents: the same rows come out of a file, compressed or not, in any encoding, cut anywhere.
func TestContents(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 8))
	for round := range 60 {
		plain := "a,b,c\n"
		for range 1 + r.IntN(200) {
			plain += fmt.Sprintf("%d,x,\"é%s ü\"\n", r.IntN(1000), strings.Repeat("\n", r.IntN(2)))
		}
		var want []string
		for name, encoding := range encodings {
			encoded, err := encoding.NewEncoder().Bytes([]byte(plain))
			if err != nil {
				t.Fatal(err)
			}
			for form, content := range map[string][]byte{"plain": encoded, "gzip": gzipped(t, encoded), "zstd": zstded(t, encoded), "two gzips": append(gzipped(t, encoded[:len(encoded)/2]), gzipped(t, encoded[len(encoded)/2:])...)} {
				dir := t.TempDir()
				if err := os.WriteFile(filepath.Join(dir, "x.csv"), content, 0o644); err != nil {
					t.Fatal(err)
				}
				csv := star.PlainCSV
				csv.Encoding = name
				f, err := openForm(t, dir, []int{0, 1, 50}[round%3], csv)
				if err != nil {
					t.Fatalf("%s, %s: %v", name, form, err)
				}
				got, err := rows(t, f)
				if err != nil {
					t.Fatalf("%s, %s: %v", name, form, err)
				}
				if want == nil {
					want = got
				}
				if !slices.Equal(got, want) || len(got) == 0 || !strings.Contains(got[0], "é") {
					t.Fatalf("%s, %s: %q, want %q", name, form, got, want)
				}
			}
		}
	}
}

// TestDamaged: what is cut off, damaged, wrongly encoded or no file of its kind is told, and where.
func TestDamaged(t *testing.T) {
	plain := []byte("a,c\n" + strings.Repeat("some words,of a row\n", 100_000))
	noise := make([]byte, len(plain))
	r := rand.New(rand.NewPCG(1, 2))
	for i := range noise {
		noise[i] = "abcdefghij,\n"[r.IntN(12)]
	}
	noise = append([]byte("a,c\nx,y\n"), bytes.ReplaceAll(noise, []byte(","), []byte("-"))...)
	zipped, pressed := gzipped(t, noise), zstded(t, noise)
	damaged := slices.Clone(zipped)
	damaged[len(damaged)/2] ^= 0xff
	for _, c := range []struct {
		name, encoding string
		content        []byte
		want           string
	}{
		{"a gzip file that is cut off", "", zipped[:len(zipped)/2], "the file ends in the middle of its gzip data"},
		{"a gzip file of its first bytes", "", zipped[:5], "the file cannot be read: this begins like gzip but is not gzip"},
		{"a gzip file without its sum", "", zipped[:len(zipped)-4], "the file ends in the middle of its gzip data"},
		{"a damaged gzip file", "", damaged, "the gzip data is damaged"},
		{"a zstd file that is cut off", "", pressed[:len(pressed)/2], "the file ends in the middle of its zstd data"},
		{"a zstd file of nothing", "", []byte{0x28, 0xb5, 0x2f, 0xfd}, "zstd data"},
		{"a gzip file of a gzip file", "", gzipped(t, zipped), "this is not UTF-8 text|the header"},
		{"undeclared UTF-16", "", []byte("\xff\xfea\x00,\x00c\x00\n\x00"), "it looks like UTF-16 (csv: encoding says so)"},
		{"bytes that mean nothing", "windows-1252", []byte("a,c\nx,\x81\n"), "!x.csv:2|c has bytes that are not windows-1252 text|\ufffd"},
		{"half a UTF-16 pair", "utf-16", []byte("\xff\xfea\x00,\x00c\x00\n\x00x\x00,\x00\x00\xd8\n\x00"), "!x.csv:2|c has bytes that are not utf-16 text"},
		{"a header that means nothing", "windows-1252", []byte("a,\x81\nx,y\n"), "the header is not windows-1252 text"},
		{"a byte that UTF-8 does not have", "", []byte("a,c\nx,\xe9\n"), "!x.csv:2|c is not UTF-8 text"},
	} {
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, "x.csv"), c.content, 0o644); err != nil {
			t.Fatal(err)
		}
		csv := star.PlainCSV
		csv.Encoding = c.encoding
		f, err := openForm(t, dir, 0, csv)
		var got []string
		if err == nil {
			got, err = rows(t, f)
		}
		said := fmt.Sprint(got, err)
		found := false
		for _, want := range strings.Split(c.want, "|") {
			found = found || strings.Contains(said, want)
		}
		if strings.HasPrefix(c.want, "!") {
			found = strings.Contains(said, c.want)
		}
		if !found {
			t.Errorf("%s: %.300s, want %s", c.name, said, c.want)
		}
	}
}

// TestChanged: a file that grows, shrinks, is replaced or vanishes while it is read is noticed.
func TestChanged(t *testing.T) {
	content := "a,c\n" + strings.Repeat("x,y\n", 1000)
	for name, change := range map[string]func(path string) error{
		"grows": func(path string) error {
			f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
			if err == nil {
				_, err = f.WriteString("x,z\n")
				f.Close()
			}
			return err
		},
		"shrinks": func(path string) error { return os.Truncate(path, 100) },
		"is replaced": func(path string) error {
			if err := os.WriteFile(path+".new", []byte(content), 0o644); err != nil {
				return err
			}
			return os.Rename(path+".new", path)
		},
		"is written to": func(path string) error {
			if err := os.WriteFile(path, []byte(strings.Replace(content, "y", "z", 1)), 0o644); err != nil {
				return err
			}
			return os.Chtimes(path, time.Time{}, time.Now().Add(time.Hour))
		},
		"vanishes": os.Remove,
	} {
		for _, early := range []bool{true, false} {
			dir := t.TempDir()
			path := filepath.Join(dir, "x.csv")
			if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
				t.Fatal(err)
			}
			f, err := open(t, dir, 500)
			if err != nil {
				t.Fatal(err)
			}
			if early {
				if err := change(path); err != nil {
					t.Fatal(err)
				}
			}
			b := column.NewBatch(f.Fields())
			pieces := 0
			for p, perr := range f.Pieces(context.Background()) {
				if err = perr; err != nil {
					break
				}
				if err = p.Fill(b); err != nil {
					break
				}
				if pieces++; pieces == 3 && !early {
					if err := change(path); err != nil {
						t.Fatal(err)
					}
				}
			}
			if err == nil ||
				!strings.Contains(err.Error(), "x.csv: the file was changed ") &&
					!strings.Contains(err.Error(), "x.csv: the file is gone") {
				t.Errorf("a file that %s, before it is read %v: %v", name, early, err)
			}
		}
	}
}

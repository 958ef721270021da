package source

import (
	"bytes"
	"errors"
	"io"
	"os"
)

// Beginning returns the first bytes of a file below a folder, decompressed if it is compressed, and says whether these are all.
func Beginning(root *os.Root, name string, n int) (text []byte, whole bool, err error) {
	t, err := openContent(root.Name(), name)
	if err != nil {
		return nil, false, errors.New(reason(err))
	}
	defer t.Close()
	if err := t.layers(""); err != nil {
		return nil, false, err
	}
	text, err = io.ReadAll(io.LimitReader(t, int64(n)+1))
	if err != nil {
		return nil, false, errors.New(t.plain())
	}
	return text[:min(n, len(text))], len(text) <= n, nil
}

// Decode returns a text in UTF-8 that is written in one of the encodings that a source may declare.
func Decode(encoding string, text []byte) ([]byte, error) {
	utf, err := io.ReadAll(encodings[encoding].NewDecoder().Reader(bytes.NewReader(text)))
	return bytes.TrimPrefix(utf, bom), err
}

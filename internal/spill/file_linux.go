package spill

import (
	"os"

	"golang.org/x/sys/unix"
)

// nameless opens a file in dir that never has a name; nil where the file system knows none such.
func nameless(dir string) *os.File {
	file, err := os.OpenFile(dir, unix.O_TMPFILE|os.O_RDWR, 0o600)
	if err != nil {
		return nil
	}
	return file
}

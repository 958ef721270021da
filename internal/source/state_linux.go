package source

import (
	"fmt"
	"io/fs"
	"syscall"
)

// changeOf returns which file it is, and when anything of it was changed last, its times included.
func changeOf(info fs.FileInfo) string {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return fmt.Sprint(" ", s.Ino, " ", s.Ctim.Nano())
	}
	return ""
}

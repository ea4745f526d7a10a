//go:build unix

package service

import (
	"io/fs"
	"syscall"
)

// identityOf is the number of a file on its disk.
func identityOf(info fs.FileInfo) uint64 {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		return uint64(stat.Ino)
	}
	return 0
}

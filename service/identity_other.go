//go:build !unix

package service

import "io/fs"

// identityOf is 0 where files have no numbers.
func identityOf(fs.FileInfo) uint64 { return 0 }

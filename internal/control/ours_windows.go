package control

import "io/fs"

// ours is not known on this system, where folders hand down their access lists.
func ours(fs.FileInfo) bool { return true }

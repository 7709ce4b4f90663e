package store

import "fmt"

// Bytes writes a number of bytes as configuration has it: 16MB, 512KB, 100B.
func Bytes(n int64) string {
	for _, u := range []struct {
		bytes int64
		name  string
	}{{1 << 30, "GB"}, {1 << 20, "MB"}, {1 << 10, "KB"}} {
		if n >= u.bytes && n%u.bytes == 0 {
			return fmt.Sprint(n/u.bytes) + u.name
		}
	}
	return fmt.Sprint(n) + "B"
}

//go:build !linux

package machine

func memory() int64   { return 0 }
func resident() int64 { return 0 }

func freeSpace(string) (int64, bool) { return 0, false }

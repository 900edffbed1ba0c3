// Package system is what differs from one operating system to another: how failures are told apart, what a file is known by, what
// a terminal wants first.
package system

import (
	"errors"
	"io/fs"
	"syscall"
)

// isOne tells whether err is one of the system's errors.
func isOne(err error, of []syscall.Errno) bool {
	for _, e := range of {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}

// AddressInUse says whether listening failed since another program does already.
func AddressInUse(err error) bool { return isOne(err, addressInUse) }

// Refused says whether nobody listens at the address that was called.
func Refused(err error) bool { return isOne(err, refused) }

// DiskFull says whether there is no space left to write.
func DiskFull(err error) bool { return isOne(err, diskFull) }

// NotWritable says whether what was to be written may not be, by its permissions or since the disk takes nothing.
func NotWritable(err error) bool { return errors.Is(err, fs.ErrPermission) || isOne(err, readOnly) }

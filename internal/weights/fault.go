package weights

import (
	"errors"
	"fmt"
	"runtime"
	"runtime/debug"
)

// ErrFault is wrapped by the error for a mapped file that went away under its reader.
var ErrFault = errors.New("the weights file was cut short or cannot be read while it is in use")

// FaultError is [ErrFault] with the address that could not be read.
type FaultError struct{ Address uintptr }

func (e *FaultError) Error() string { return fmt.Sprintf("%v (at address %#x)", ErrFault, e.Address) }
func (e *FaultError) Unwrap() error { return ErrFault }

// ErrCut is wrapped by the errors for files of which the end, or for models of which files are missing.
var ErrCut = errors.New("it is cut off or damaged")

// Guarded runs do, which reads mapped files. A memory fault, as it comes when a file is cut short, is an error and not
// the end of the process.
func Guarded(do func() error) (err error) {
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() {
		if p := recover(); p != nil {
			fault, ok := AsFault(p)
			if !ok {
				panic(p)
			}
			err = fault
		}
	}()
	return do()
}

// AsFault gives the error for a recovered panic if it was a memory fault.
func AsFault(p any) (error, bool) {
	e, ok := p.(runtime.Error)
	if !ok {
		return nil, false
	}
	// The runtime gives the address of faults that SetPanicOnFault turned into panics, and of no other.
	var addressed interface{ Addr() uintptr }
	if !errors.As(e, &addressed) {
		return nil, false
	}
	return &FaultError{addressed.Addr()}, true
}

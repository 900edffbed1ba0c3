package weights

import (
	"fmt"

	mmap "github.com/edsrzf/mmap-go"

	"kindredgate/internal/system"
)

// Mapped is a file in memory, read as it is used.
type Mapped struct {
	Data []byte
	m    mmap.MMap
}

// Map maps a whole file. An empty file has no Data.
func Map(path string) (*Mapped, error) {
	f, err := system.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() == 0 {
		return &Mapped{}, nil
	}
	m, err := mmap.Map(f, mmap.RDONLY, 0)
	if err != nil {
		return nil, fmt.Errorf("%s: map into memory: %w", path, err)
	}
	return &Mapped{Data: m, m: m}, nil
}

// Close unmaps the file. Data must not be used afterwards.
func (m *Mapped) Close() error {
	if m.m == nil {
		return nil
	}
	mapped := m.m
	m.m, m.Data = nil, nil
	return mapped.Unmap()
}

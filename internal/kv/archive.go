package kv

import (
	"bufio"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"slices"
	"unsafe"
)

// An archive has what contexts had in common, page by page, so that it need not be read again after a restart: the instructions and tools
// that requests begin with, and the conversations that went on. Pages of which there was only one reader are not in it.
//
// It begins with archiveVersion, and what a page and a state take. A page follows the page before it in its context:
//
//	int32       number of the page before it among those of the archive, −1 for the first of a context
//	uint64      variant of the context
//	[32]int32   tokens
//	uint32      1 if the state after the page follows it, else 0
//	bytes       keys and values, as the store has them; the state, as float32
//	uint32      CRC-32C of all of that
//
// All numbers are little-endian. Pages that were used last come first.
const archiveVersion = "kindred gate contexts 2\n"

// recordHead is what comes before keys and values.
const recordHead = 4 + 8 + 4*PageTokens + 4

// ErrDamaged is wrapped by the error for an archive that is not what was written, or that was written for another model.
var ErrDamaged = errors.New("kept contexts are damaged")

var polynomial = crc32.MakeTable(crc32.Castagnoli)

// head is what an archive of the pool begins with.
func (p *Pool) head() []byte {
	b := append([]byte(archiveVersion), make([]byte, 8)...)
	binary.LittleEndian.PutUint32(b[len(archiveVersion):], uint32(p.store.Bytes()))
	binary.LittleEndian.PutUint32(b[len(archiveVersion)+4:], uint32(p.shape.State))
	return b
}

// recordBytes is what a page takes in an archive.
func (p *Pool) recordBytes(state bool) int64 {
	n := int64(recordHead + p.store.Bytes() + 4)
	if state {
		n += 4 * int64(p.shape.State)
	}
	return n
}

// Shared is how often pages were found by a second context, which is when there is something new to archive.
func (p *Pool) Shared() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.sharedCount
}

// Unshare makes no page count as one that contexts had in common, until a second context finds it again.
func (p *Pool) Unshare() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, one := range p.index {
		one.shared = false
	}
	p.sharedCount = 0
}

// archived is a page that goes into an archive, as it was when the list was made.
type archived struct {
	*page
	id     uint64
	parent int32
}

// Archive is what is to be written of a pool.
type Archive struct {
	pool  *Pool
	pages []archived
	Bytes int64 // that it takes at the most
}

// NewArchive lists the pages that contexts had in common, those that were used last, as far as they take no more than so many bytes.
func (p *Pool) NewArchive(most int64) Archive {
	p.mu.Lock()
	defer p.mu.Unlock()
	a := Archive{pool: p, Bytes: int64(len(p.head()))}
	var list []*page
	byID := map[uint64]*page{}
	for _, one := range p.index {
		byID[one.id] = one
		if one.shared {
			list = append(list, one)
		}
	}
	slices.SortFunc(list, func(a, b *page) int { return cmp.Or(cmp.Compare(b.used, a.used), cmp.Compare(a.depth, b.depth)) })
	numbers := map[uint64]int32{}
	left := map[uint64]bool{} // which cannot go, and so nothing that follows them, whose way up need not be gone to its end again
	for _, one := range list {
		// It goes with those before it.
		var chain []*page
		bytes := a.Bytes
		whole := true
		for at := one; ; at = byID[at.key.before] {
			if whole = at != nil && !left[at.id] && !at.ofPictures(); !whole {
				break
			}
			if _, there := numbers[at.id]; there {
				break
			}
			chain = append(chain, at)
			bytes += p.recordBytes(at.snapshot != nil)
			if at.depth == 0 {
				break
			}
		}
		if !whole || bytes > most {
			left[one.id] = true
			continue
		}
		a.Bytes = bytes
		for _, at := range slices.Backward(chain) {
			parent := int32(-1)
			if at.depth > 0 {
				parent = numbers[at.key.before]
			}
			numbers[at.id] = int32(len(a.pages))
			a.pages = append(a.pages, archived{at, at.id, parent})
		}
	}
	return a
}

// ofPictures reports whether the page has tokens of pictures, which have other numbers after a restart.
func (one *page) ofPictures() bool {
	return slices.ContainsFunc(one.key.tokens[:], func(t int32) bool { return t < 0 })
}

// Pages is how many pages the archive has.
func (a Archive) Pages() int { return len(a.pages) }

// Write writes the archive. Contexts go on meanwhile; pages that they take are left out, with those that follow these.
func (a Archive) Write(w io.Writer) error {
	out := bufio.NewWriterSize(w, 1<<20)
	if _, err := out.Write(a.pool.head()); err != nil {
		return err
	}
	numbers := make([]int32, len(a.pages)) // as they are written
	written := int32(0)
	var record []byte
	for i, one := range a.pages {
		numbers[i] = -1
		parent := one.parent
		if parent >= 0 {
			if parent = numbers[parent]; parent < 0 {
				continue
			}
		}
		if record = a.record(record[:0], one, parent); len(record) == 0 {
			continue
		}
		record = binary.LittleEndian.AppendUint32(record, crc32.Checksum(record, polynomial))
		if _, err := out.Write(record); err != nil {
			return err
		}
		numbers[i] = written
		written++
	}
	return out.Flush()
}

// record copies a page, if it still is what it was.
func (a Archive) record(b []byte, one archived, parent int32) []byte {
	p := a.pool
	p.mu.Lock()
	defer p.mu.Unlock()
	if one.page.id != one.id || !one.known {
		return nil
	}
	b = binary.LittleEndian.AppendUint32(b, uint32(parent))
	b = binary.LittleEndian.AppendUint64(b, one.variant)
	for _, t := range one.key.tokens {
		b = binary.LittleEndian.AppendUint32(b, uint32(t))
	}
	state := one.snapshot
	if state != nil {
		b = binary.LittleEndian.AppendUint32(b, 1)
	} else {
		b = binary.LittleEndian.AppendUint32(b, 0)
	}
	b = append(b, one.memory[:p.store.Bytes()]...)
	if state != nil {
		b = append(b, unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(state.numbers))), 4*len(state.numbers))...)
	}
	return b
}

// Restore makes the pages of an archive known, as far as there is room in three quarters of the pool, and gives how many these are. What comes
// before damage is good; the error wraps ErrDamaged then.
func (p *Pool) Restore(r io.Reader) (pages int, err error) {
	in := bufio.NewReaderSize(r, 1<<20)
	want := p.head()
	head := make([]byte, len(want))
	if _, err := io.ReadFull(in, head); err != nil || !slices.Equal(head, want) {
		return 0, fmt.Errorf("%w: they are of another model, or of another version", ErrDamaged)
	}
	var list []*page
	defer func() {
		// The first ones were used last.
		p.mu.Lock()
		defer p.mu.Unlock()
		for _, one := range slices.Backward(list) {
			p.drop(one)
		}
	}()
	record := make([]byte, p.recordBytes(true))
	for len(list) < p.limit*3/4 {
		body := record[:p.recordBytes(false)]
		if _, err := io.ReadFull(in, body[:recordHead]); errors.Is(err, io.EOF) {
			return len(list), nil
		} else if err != nil {
			return len(list), fmt.Errorf("%w: page %d is cut short", ErrDamaged, len(list))
		}
		state := binary.LittleEndian.Uint32(body[recordHead-4:]) != 0
		if state {
			body = record
		}
		if _, err := io.ReadFull(in, body[recordHead:]); err != nil {
			return len(list), fmt.Errorf("%w: page %d is cut short", ErrDamaged, len(list))
		}
		end := len(body) - 4
		if crc32.Checksum(body[:end], polynomial) != binary.LittleEndian.Uint32(body[end:]) {
			return len(list), fmt.Errorf("%w: page %d is not what was written", ErrDamaged, len(list))
		}
		one, err := p.restore(body[:end], state, list)
		if err != nil {
			return len(list), err
		}
		if one == nil {
			return len(list), nil
		}
		list = append(list, one)
	}
	return len(list), nil
}

// restore makes a page known, and holds it; nil if there is no room.
func (p *Pool) restore(record []byte, state bool, list []*page) (*page, error) {
	parent, variant := int32(binary.LittleEndian.Uint32(record)), binary.LittleEndian.Uint64(record[4:])
	if parent < -1 || int(parent) >= len(list) {
		return nil, fmt.Errorf("%w: page %d follows page %d", ErrDamaged, len(list), parent)
	}
	key := pageKey{before: math.MaxUint64 - variant}
	depth := 0
	p.mu.Lock()
	defer p.mu.Unlock()
	if parent >= 0 {
		key.before, depth = list[parent].id, list[parent].depth+1
	}
	for i := range key.tokens {
		key.tokens[i] = int32(binary.LittleEndian.Uint32(record[12+4*i:]))
	}
	if known := p.index[key]; known != nil { // somebody was faster
		p.use(known)
		return known, nil
	}
	one := p.take()
	if one == nil {
		return nil, nil
	}
	copy(one.memory, record[recordHead:recordHead+p.store.Bytes()])
	one.variant, one.depth = variant, depth
	p.learn(one, key, PageTokens)
	one.shared = true
	if state && p.shape.State > 0 {
		if s, ok := p.newState(); ok {
			copy(unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(s.numbers))), 4*len(s.numbers)), record[recordHead+p.store.Bytes():])
			p.keep(one, &s)
		}
	}
	return one, nil
}

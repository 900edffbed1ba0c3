package ledger

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"kindredgate/internal/record"
	"kindredgate/internal/system"
)

// The journal holds what the database does not have yet, a JSON document a line. A line is written before the client sees the end of its
// answer, so that a gate that is killed loses none; it is taken over at the next start. Writing to the database takes its time, and is
// done for many at once.

// segmentBytes is how long a file of the journal becomes before the next one begins.
const segmentBytes = 1 << 20

// longLine bounds a line of the journal, in bytes.
const longLine = 1 << 20

// journal appends to files that are numbered. It is not safe for concurrent use.
type journal struct {
	folder string
	number int
	file   *os.File
	bytes  int64
	torn   bool // the last line may not be whole
}

func (j *journal) path(number int) string {
	return filepath.Join(j.folder, fmt.Sprintf("exchanges-%06d.journal", number))
}

// segments are the files that there are, in their order.
func segments(folder string) ([]string, error) {
	files, err := filepath.Glob(filepath.Join(folder, "exchanges-*.journal"))
	slices.Sort(files)
	return files, err
}

// begin begins the next file.
func (j *journal) begin() error {
	file, err := os.OpenFile(j.path(j.number+1), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	err = nil
	if j.file != nil {
		err = j.file.Close()
	}
	j.file, j.number, j.bytes, j.torn = file, j.number+1, 0, false
	return err
}

// add appends a line.
func (j *journal) add(line []byte) error {
	if j.torn {
		line = append([]byte("\n"), line...)
	}
	n, err := j.file.Write(line)
	j.bytes += int64(n)
	j.torn = err != nil
	return err
}

// read gives the exchanges of a file, the later state of each behind the earlier. Lines that are torn are left out, and counted.
func read(path string) (list []record.Record, torn int, err error) {
	f, err := system.Open(path)
	if err != nil {
		return nil, 0, err
	}
	defer f.Close()
	list, torn, err = scan(f)
	if err != nil {
		return list, torn, fmt.Errorf("%s: %w", path, err)
	}
	return list, torn, nil
}

func scan(r io.Reader) (list []record.Record, torn int, err error) {
	lines := bufio.NewReaderSize(r, longLine)
	long := false // the line goes on from one that was too long to be read
	for {
		line, err := lines.ReadSlice('\n')
		if text := bytes.TrimSpace(line); len(text) > 0 && !long {
			var e record.Record
			if errors.Is(err, bufio.ErrBufferFull) || json.Unmarshal(text, &e) != nil || e.ID == "" {
				torn++
			} else {
				list = append(list, e)
			}
		}
		if long = errors.Is(err, bufio.ErrBufferFull); long {
			continue
		}
		if errors.Is(err, io.EOF) {
			return list, torn, nil
		}
		if err != nil {
			return list, torn, err
		}
	}
}

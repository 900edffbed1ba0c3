// Package fetch gets models over HTTP: whole files, going on where an earlier try broke off, and the beginnings of files
// from which it can be told what they are. It reaches out only when somebody asks for an address.
package fetch

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"kindredgate/internal/library"
	"kindredgate/internal/weights/gguf"
)

// Source gets what is at addresses. Its zero value is ready.
type Source struct {
	// Patience is for how long nothing may come before a try is given up; a minute if zero.
	Patience time.Duration
	// Tries is how often a file is tried before that is an error; 5 if zero.
	Tries int
	// Pause is how long to wait before the second try, and twice as long before each further one; a second if zero.
	Pause time.Duration
}

var _ library.Source = Source{}

// client follows redirects, which is how many stores of files work.
var client = &http.Client{}

func (s Source) get(ctx context.Context, address string, header http.Header) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	req.Header = header
	req.Header.Set("User-Agent", "kindred-gate")
	req.Header.Set("Accept-Encoding", "identity")
	return client.Do(req)
}

// StatusError is an answer that is not what was asked for.
type StatusError struct {
	Address string
	Status  int
}

func (e *StatusError) Error() string {
	return fmt.Sprintf("%s: the server answers %d %s", e.Address, e.Status, http.StatusText(e.Status))
}

// final reports whether trying again is no use.
func final(err error) bool {
	var status *StatusError
	if errors.As(err, &status) {
		return status.Status < 500 && status.Status != http.StatusTooManyRequests && status.Status != http.StatusRequestTimeout
	}
	var file *fs.PathError
	var endless *endlessError
	return errors.As(err, &endless) || errors.As(err, &file) || errors.Is(err, context.Canceled)
}

// origin is what is remembered of a file that is not whole, so that it goes on only with the rest of the same one.
type origin struct {
	Tag      string `json:"tag"`
	Modified string `json:"modified"`
	Size     int64  `json:"size"`
}

func originOf(r *http.Response, size int64) origin {
	return origin{r.Header.Get("ETag"), r.Header.Get("Last-Modified"), size}
}

// Fetch writes what is at an address to a file. A file that is there in part goes on; one that is whole is left as it is.
// What is needed for that is kept in a file beside it, whose name ends in library.Origin.
func (s Source) Fetch(ctx context.Context, address, file string, progress func(done, total int64)) error {
	tries, pause := s.Tries, s.Pause
	if tries <= 0 {
		tries = 5
	}
	if pause <= 0 {
		pause = time.Second
	}
	for n := 1; ; n++ {
		before := size(file)
		err := s.try(ctx, address, file, progress)
		if err == nil {
			return nil
		}
		if size(file) > before {
			n = 0 // it goes on, if slowly
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if final(err) || n >= tries {
			err = fmt.Errorf("fetching %s: %w", address, err)
			if size(file) > 0 {
				err = fmt.Errorf("%w; what has come is kept, so that the same command goes on from there", err)
			}
			return err
		}
		select {
		case <-time.After(pause << max(0, n-1)):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

func size(file string) int64 {
	info, err := os.Stat(file)
	if err != nil {
		return 0
	}
	return info.Size()
}

func (s Source) try(ctx context.Context, address, file string, progress func(done, total int64)) (err error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	out, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	done := size(file)
	var from origin
	if raw, err := os.ReadFile(file + library.Origin); err != nil || json.Unmarshal(raw, &from) != nil {
		done = 0 // nothing tells what the bytes that are there are part of
	}
	if done > 0 && done == from.Size {
		return nil
	}
	header := http.Header{}
	if done > 0 && done < from.Size {
		header.Set("Range", fmt.Sprintf("bytes=%d-", done))
		if from.Tag != "" && !strings.HasPrefix(from.Tag, "W/") {
			header.Set("If-Range", from.Tag)
		} else if from.Modified != "" {
			header.Set("If-Range", from.Modified)
		}
	} else {
		done = 0
	}
	resp, err := s.get(ctx, address, header)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	total := resp.ContentLength
	switch resp.StatusCode {
	case http.StatusOK:
		done = 0 // from the beginning, whatever was asked for
	case http.StatusPartialContent:
		start, whole, ok := contentRange(resp.Header.Get("Content-Range"))
		if !ok || start != done {
			return fmt.Errorf("the server answers with bytes from %q, not from %d", resp.Header.Get("Content-Range"), done)
		}
		total = whole
	default:
		return &StatusError{address, resp.StatusCode}
	}
	if limit := longest(file); total > limit {
		return fmt.Errorf("the server announces %d bytes; at most %d are taken of such a file", total, limit)
	}
	if total < 0 {
		total = 0
	}
	raw, err := json.Marshal(originOf(resp, total))
	if err != nil {
		return err
	}
	if err := errors.Join(out.Truncate(done), os.WriteFile(file+library.Origin, raw, 0o644)); err != nil {
		return err
	}
	if _, err := out.Seek(done, io.SeekStart); err != nil {
		return err
	}
	return s.receive(ctx, out, longest(file), resp.Body, done, total, cancel, progress)
}

// longest bounds what is taken of a file, in bytes: of one of weights more than any model has, and of text as much as is read of it.
func longest(file string) int64 {
	if ext := strings.ToLower(filepath.Ext(file)); ext == ".gguf" || ext == ".safetensors" {
		return mostWeights
	}
	return mostText
}

const (
	mostWeights = 1 << 40
	mostText    = 256 << 20
)

// endlessError says that a server sends more than any file of its kind has.
type endlessError struct{ limit int64 }

func (e *endlessError) Error() string {
	return fmt.Sprintf("more than %d bytes have come, the most that are taken of such a file", e.limit)
}

// errSilent is why a try ends when nothing comes.
var errSilent = errors.New("nothing has come for a while")

// receive copies the body. If nothing comes for too long, the try is cancelled.
func (s Source) receive(ctx context.Context, out io.Writer, limit int64, body io.Reader, done, total int64, cancel context.CancelCauseFunc, progress func(done, total int64)) error {
	patience := s.Patience
	if patience <= 0 {
		patience = time.Minute
	}
	silent := time.AfterFunc(patience, func() { cancel(errSilent) })
	defer silent.Stop()
	buffer := make([]byte, 1<<20)
	for {
		n, err := body.Read(buffer)
		silent.Reset(patience)
		if n > 0 {
			if _, err := out.Write(buffer[:n]); err != nil {
				return err
			}
			done += int64(n)
			if total > 0 && done > total {
				return fmt.Errorf("more than the %d bytes have come that the server announced", total)
			}
			if done > limit {
				return &endlessError{limit}
			}
			progress(done, total)
		}
		switch {
		case ctx.Err() != nil: // the connection may go on for as long as it has something in its buffers
			return context.Cause(ctx)
		case errors.Is(err, io.EOF) && total > 0 && done < total:
			return fmt.Errorf("the line broke after %d of %d bytes", done, total)
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		}
	}
}

var rangeHeader = regexp.MustCompile(`^bytes (\d+)-\d+/(\d+)$`)

func contentRange(h string) (start, total int64, ok bool) {
	m := rangeHeader.FindStringSubmatch(h)
	if m == nil {
		return 0, 0, false
	}
	start, err1 := strconv.ParseInt(m[1], 10, 64)
	total, err2 := strconv.ParseInt(m[2], 10, 64)
	return start, total, err1 == nil && err2 == nil
}

// Beginning gets up to n bytes from the beginning of what is at an address, and its size; 0 if the server does not say.
func (s Source) Beginning(ctx context.Context, address string, n int64) (raw []byte, size int64, err error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	resp, err := s.get(ctx, address, http.Header{"Range": {fmt.Sprintf("bytes=0-%d", n-1)}})
	if err != nil {
		return nil, 0, err
	}
	defer resp.Body.Close()
	switch resp.StatusCode {
	case http.StatusOK:
		size = max(0, resp.ContentLength)
	case http.StatusPartialContent:
		_, size, _ = contentRange(resp.Header.Get("Content-Range"))
	case http.StatusRequestedRangeNotSatisfiable:
		return nil, 0, nil // an empty file
	default:
		return nil, 0, &StatusError{address, resp.StatusCode}
	}
	raw, err = io.ReadAll(io.LimitReader(resp.Body, n))
	return raw, size, err
}

// small is the most that is read of files of text.
const small = 16 << 20

// text gets a small file; nil if there is none.
func (s Source) text(ctx context.Context, address string) ([]byte, error) {
	raw, _, err := s.Beginning(ctx, address, small)
	var status *StatusError
	if errors.As(err, &status) && (status.Status == http.StatusNotFound || status.Status == http.StatusForbidden) {
		return nil, nil
	}
	return raw, err
}

// beside is the address of a file in the folder at an address.
func beside(folder, name string) (string, error) {
	u, err := url.Parse(folder)
	if err != nil {
		return "", err
	}
	u.Path = path.Join(u.Path, name)
	u.RawPath = ""
	return u.String(), nil
}

// companions are the files of a safetensors folder that may be there beside config.json.
var companions = []string{"tokenizer.json", "tokenizer_config.json", "generation_config.json", "chat_template.jinja", "modules.json", "config_sentence_transformers.json"}

// Files are all files of the model at an address, which is that of a GGUF file, or of a folder of safetensors.
func (s Source) Files(ctx context.Context, address string) ([]library.File, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return nil, fmt.Errorf("%q is not an address", address)
	}
	if name := path.Base(u.Path); strings.EqualFold(path.Ext(name), ".gguf") {
		_, part, count, ok := gguf.Part(name)
		if !ok || part != 1 {
			return []library.File{{Address: address, Name: name}}, nil
		}
		// Before any is fetched, the first says how many there are.
		f, _, err := s.header(ctx, address)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if said, err := f.Metadata.Int("split.count"); err != nil || said != count {
			return nil, fmt.Errorf("%s is the first of %d files by its name, but not by what is in it (split.count)", name, count)
		}
		var list []library.File
		for n := 1; n <= count; n++ {
			other := *u
			other.Path, other.RawPath = path.Join(path.Dir(u.Path), gguf.PartPath(name, n)), ""
			list = append(list, library.File{Address: other.String(), Name: gguf.PartPath(name, n)})
		}
		return list, nil
	}
	return s.folder(ctx, strings.TrimSuffix(address, "/config.json"))
}

func (s Source) folder(ctx context.Context, address string) (list []library.File, err error) {
	at := func(name string) string {
		a, e := beside(address, name)
		err = errors.Join(err, e)
		return a
	}
	config, e := s.text(ctx, at("config.json"))
	if e != nil || err != nil {
		return nil, errors.Join(e, err)
	}
	if config == nil || !json.Valid(config) {
		return nil, fmt.Errorf("%s is neither a .gguf file nor a folder with a config.json", address)
	}
	names := []string{"config.json"}
	index, e := s.text(ctx, at("model.safetensors.index.json"))
	if e != nil {
		return nil, e
	}
	if index == nil {
		names = append(names, "model.safetensors")
	} else {
		shards, e := shards(index)
		if e != nil {
			return nil, e
		}
		names = append(append(names, "model.safetensors.index.json"), shards...)
	}
	for _, name := range companions {
		raw, _, e := s.Beginning(ctx, at(name), 1)
		var status *StatusError
		if errors.As(e, &status) && status.Status < 500 {
			continue
		} else if e != nil {
			return nil, e
		}
		if names = append(names, name); name == "modules.json" && len(raw) > 0 {
			more, e := s.modules(ctx, address)
			if e != nil {
				return nil, e
			}
			names = append(names, more...)
		}
	}
	for _, name := range names {
		list = append(list, library.File{Address: at(name), Name: name})
	}
	return list, err
}

func shards(index []byte) (list []string, err error) {
	var doc struct {
		Map map[string]string `json:"weight_map"`
	}
	if err := json.Unmarshal(index, &doc); err != nil {
		return nil, fmt.Errorf("model.safetensors.index.json: %w", err)
	}
	for _, name := range doc.Map {
		if name != path.Base(name) || !strings.HasSuffix(name, ".safetensors") {
			return nil, fmt.Errorf("model.safetensors.index.json names the file %q", name)
		}
		if !slices.Contains(list, name) {
			list = append(list, name)
		}
	}
	slices.Sort(list)
	return list, nil
}

// modules are the files of what follows the network in an embedding model.
func (s Source) modules(ctx context.Context, address string) (list []string, err error) {
	at, err := beside(address, "modules.json")
	if err != nil {
		return nil, err
	}
	raw, err := s.text(ctx, at)
	if err != nil {
		return nil, err
	}
	var modules []struct{ Path, Type string }
	if err := json.Unmarshal(raw, &modules); err != nil {
		return nil, fmt.Errorf("modules.json: %w", err)
	}
	for _, m := range modules {
		if m.Path == "" || m.Path != path.Base(m.Path) || strings.HasPrefix(m.Path, ".") {
			continue
		}
		switch m.Type[strings.LastIndexByte(m.Type, '.')+1:] {
		case "Pooling":
			list = append(list, m.Path+"/config.json")
		case "Dense":
			list = append(list, m.Path+"/config.json", m.Path+"/model.safetensors")
		}
	}
	return list, nil
}

var link = regexp.MustCompile(`(?i)href\s*=\s*["']?([^"'\s>]+)`)

// Listing is the addresses of models that a page names: a directory listing, or a plain list of addresses, one a line.
func (s Source) Listing(ctx context.Context, address string) (list []string, err error) {
	raw, _, err := s.Beginning(ctx, address, small)
	if err != nil {
		return nil, err
	}
	base, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	if list = links(base, string(raw)); len(list) > maxLinks {
		return nil, fmt.Errorf("%s names more than %d models; name one of them, or a page with fewer", address, maxLinks)
	}
	return list, nil
}

// maxLinks bounds how many models of a page are looked at.
const maxLinks = 500

// links finds the addresses of models in a page, or in a list with one a line, up to one more than are looked at.
func links(base *url.URL, text string) (list []string) {
	var found []string
	if strings.Contains(strings.ToLower(text), "<a ") {
		for _, m := range link.FindAllStringSubmatch(text, -1) {
			found = append(found, html.UnescapeString(m[1]))
		}
	} else {
		found = strings.Split(text, "\n")
	}
	known := map[string]bool{}
	for _, ref := range found {
		if len(list) > maxLinks {
			break // which is an error to whoever asked
		}
		ref = strings.TrimSpace(ref)
		u, err := url.Parse(ref)
		if ref == "" || strings.HasPrefix(ref, "#") || err != nil {
			continue
		}
		u = base.ResolveReference(u)
		name := u.Path[strings.LastIndexByte(u.Path, '/')+1:] // which is empty for a folder
		_, part, _, ok := gguf.Part(name)
		if (u.Scheme == "http" || u.Scheme == "https") && strings.EqualFold(path.Ext(name), ".gguf") && (!ok || part == 1) && !known[u.String()] {
			known[u.String()] = true
			list = append(list, u.String())
		}
	}
	return list
}

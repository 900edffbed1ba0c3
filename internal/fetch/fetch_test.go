package fetch

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/library"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/gguf"
)

const (
	reference = "../model/testdata/reference/"
	harbour   = "../../demo/models/harbour-4m/harbour-4m.gguf"
)

// quick tries again at once, but does not mistake a machine with much to do for a server that says nothing.
var quick = Source{Patience: 30 * time.Second, Tries: 2, Pause: time.Millisecond}

func read(t testing.TB, path string) []byte {
	t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// store serves files as stores of files do, with ranges and validators, and breaks off as often as it is told.
type store struct {
	*httptest.Server
	breaks   atomic.Int32 // answers that end after a megabyte
	silent   atomic.Bool  // answers that stop without an end
	noRanges atomic.Bool
	asked    atomic.Int32
	ranges   atomic.Int32
}

func serve(t testing.TB, files map[string][]byte) *store {
	t.Helper()
	s := &store{}
	begun := time.Now()
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.asked.Add(1)
		raw, ok := files[strings.TrimPrefix(r.URL.Path, "/")]
		if !ok {
			http.NotFound(w, r)
			return
		}
		if r.Header.Get("Range") != "" {
			s.ranges.Add(1)
		}
		if s.noRanges.Load() {
			r.Header.Del("Range")
		}
		w.Header().Set("ETag", fmt.Sprintf("%q", hex.EncodeToString(sum(raw))))
		if s.breaks.Load() > 0 || s.silent.Load() {
			s.breaks.Add(-1)
			w = &breaking{ResponseWriter: w, left: 1 << 20, silent: s.silent.Load(), gone: r.Context().Done()}
		}
		http.ServeContent(w, r, r.URL.Path, begun, bytes.NewReader(raw))
	}))
	t.Cleanup(s.Close)
	return s
}

func sum(raw []byte) []byte {
	h := sha256.Sum256(raw)
	return h[:]
}

type breaking struct {
	http.ResponseWriter
	left   int
	silent bool
	gone   <-chan struct{}
}

func (b *breaking) Write(p []byte) (int, error) {
	if b.left <= 0 {
		if b.silent {
			b.ResponseWriter.(http.Flusher).Flush()
			<-b.gone
		}
		panic(http.ErrAbortHandler)
	}
	n := min(len(p), b.left)
	b.left -= n
	return b.ResponseWriter.Write(p[:n])
}

func nothing(int64, int64) {}

// What breaks off goes on where it was, in the same command and in the next one.
func TestFetchGoesOn(t *testing.T) {
	raw := bytes.Repeat(read(t, harbour), 2)
	s := serve(t, map[string][]byte{"m.gguf": raw})
	file := filepath.Join(t.TempDir(), "m.gguf")
	s.breaks.Store(3)
	var told []int64
	if err := quick.Fetch(t.Context(), s.URL+"/m.gguf", file, func(done, total int64) {
		told = append(told, done)
		if total != int64(len(raw)) {
			t.Errorf("of %d bytes", total)
		}
	}); err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(read(t, file), raw) || s.ranges.Load() != 3 || told[len(told)-1] != int64(len(raw)) {
		t.Errorf("%d bytes of %d, %d ranges", len(read(t, file)), len(raw), s.ranges.Load())
	}
	for i := 1; i < len(told); i++ {
		if told[i] < told[i-1] {
			t.Errorf("from %d back to %d bytes", told[i-1], told[i])
		}
	}
	// A command that was stopped, and the next one.
	other := filepath.Join(t.TempDir(), "n.gguf")
	ctx, cancel := context.WithCancel(t.Context())
	err := quick.Fetch(ctx, s.URL+"/m.gguf", other, func(done, _ int64) {
		if done > 2<<20 {
			cancel()
		}
	})
	have := size(other)
	if !errors.Is(err, context.Canceled) || have < 2<<20 {
		t.Fatalf("%v, %d bytes", err, have)
	}
	first := int64(0)
	if err := quick.Fetch(t.Context(), s.URL+"/m.gguf", other, func(done, _ int64) {
		if first == 0 {
			first = done
		}
	}); err != nil || first <= have || !bytes.Equal(read(t, other), raw) {
		t.Errorf("%v, went on at %d of %d", err, first, have)
	}
	// What is whole is not asked for again.
	asked := s.asked.Load()
	if err := quick.Fetch(t.Context(), s.URL+"/m.gguf", other, nothing); err != nil || s.asked.Load() != asked {
		t.Errorf("%v, asked %d times more", err, s.asked.Load()-asked)
	}
}

// A file that has changed meanwhile begins anew, and so does one from a server without ranges.
func TestFetchBeginsAnew(t *testing.T) {
	files := map[string][]byte{"m": bytes.Repeat([]byte("one "), 1<<20)}
	s := serve(t, files)
	file := filepath.Join(t.TempDir(), "m")
	s.breaks.Store(100)
	if err := (Source{Tries: 1, Pause: time.Millisecond, Patience: time.Second}).Fetch(stopAfter(t, 2<<20), s.URL+"/m", file, stop); err == nil {
		t.Fatal("nothing broke off")
	}
	s.breaks.Store(0)
	files["m"] = bytes.Repeat([]byte("two "), 1<<20)
	if err := quick.Fetch(t.Context(), s.URL+"/m", file, nothing); err != nil || !bytes.Equal(read(t, file), files["m"]) {
		t.Errorf("%v: parts of two files were put together", err)
	}
	s.noRanges.Store(true)
	s.breaks.Store(1)
	other := filepath.Join(t.TempDir(), "m")
	if err := quick.Fetch(t.Context(), s.URL+"/m", other, nothing); err != nil || !bytes.Equal(read(t, other), files["m"]) {
		t.Errorf("without ranges: %v", err)
	}
}

// stopAfter and stop end a fetch when so much has come.
var stopping func(done int64)

func stop(done, _ int64) { stopping(done) }

func stopAfter(t *testing.T, bytes int64) context.Context {
	ctx, cancel := context.WithCancel(t.Context())
	stopping = func(done int64) {
		if done >= bytes {
			cancel()
		}
	}
	t.Cleanup(cancel)
	return ctx
}

func TestFetchFails(t *testing.T) {
	s := serve(t, map[string][]byte{"m": make([]byte, 4<<20)})
	file := filepath.Join(t.TempDir(), "m")
	if err := quick.Fetch(t.Context(), s.URL+"/none", file, nothing); err == nil || !strings.Contains(err.Error(), "404 Not Found") || strings.Contains(err.Error(), "kept") || s.asked.Load() != 1 {
		t.Errorf("%v after %d requests", err, s.asked.Load())
	}
	s.silent.Store(true)
	err := (Source{Patience: 50 * time.Millisecond, Tries: 1, Pause: time.Millisecond}).Fetch(stopAfter(t, 3<<20), s.URL+"/m", file, stop)
	if !errors.Is(err, context.Canceled) || size(file) < 3<<20 {
		t.Errorf("a server that falls silent after each megabyte: %v, %d bytes", err, size(file))
	}
	liar := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Range", "bytes 0-9/10")
		w.WriteHeader(http.StatusPartialContent)
		_, _ = w.Write(make([]byte, 1<<20)) // the client hangs up
	}))
	defer liar.Close()
	if err := quick.Fetch(t.Context(), liar.URL, filepath.Join(t.TempDir(), "m"), nothing); err == nil || !strings.Contains(err.Error(), "more than the 10 bytes") {
		t.Errorf("more than was announced: %v", err)
	}
	if err := quick.Fetch(t.Context(), "http://127.0.0.1:1/x", file, nothing); err == nil || !strings.Contains(err.Error(), "connection refused") {
		t.Errorf("nobody there: %v", err)
	}
}

// Headers are enough to tell what a model is, of a page that lists files, of a plain list, and of a folder.
func TestLook(t *testing.T) {
	files := map[string][]byte{
		"harbour.gguf": read(t, harbour), "oss.gguf": read(t, reference+"gpt-oss/model.mxfp4.gguf"), "junk.gguf": []byte("junk"),
		"index.html": []byte(`<html><a href="harbour.gguf">one</a> <A HREF='/oss.gguf?x=1&amp;y'>two</A> <a href=notes.txt>notes</a> <a href="junk.gguf">three</a></html>`),
		"list.txt":   []byte("harbour.gguf\n\n# of our own\n/oss.gguf\n"),
	}
	for _, name := range []string{"config.json", "model.safetensors.index.json", "model-00001-of-00002.safetensors", "model-00002-of-00002.safetensors", "tokenizer.json", "tokenizer_config.json"} {
		files["qwen/"+name] = read(t, reference+"qwen3/hf/"+name)
	}
	s := serve(t, files)
	look := func(path string) (list []catalog.Model, err error) {
		err = quick.Look(t.Context(), s.URL+path, func(m catalog.Model) { list = append(list, m) })
		return list, err
	}
	list, err := look("/index.html")
	if err != nil || len(list) != 3 {
		t.Fatalf("%+v, %v", list, err)
	}
	if m := list[0]; m.ID != "harbour" || m.Architecture != "llama" || m.Size != int64(len(files["harbour.gguf"])) || m.Weights != "Q8_0" || m.ContextLength != 2048 || m.TokenBytes == 0 || m.Use != catalog.Chat {
		t.Errorf("%+v", m)
	}
	if m := list[1]; m.ID != "oss" || m.Architecture != "gpt-oss" || m.TrainedContext != 512 {
		t.Errorf("%+v", m)
	}
	if m := list[2]; !strings.Contains(m.Problem, "not a GGUF file") {
		t.Errorf("%+v", m)
	}
	if list, err = look("/list.txt"); err != nil || len(list) != 2 {
		t.Errorf("%+v, %v", list, err)
	}
	if list, err = look("/qwen/"); err != nil || len(list) != 1 || list[0].ID != "qwen" || list[0].Architecture != "qwen3" || list[0].Parameters < 70_000 || list[0].Problem != "" {
		t.Errorf("%+v, %v", list, err)
	}
	if _, err = look("/none/"); err == nil || !strings.Contains(err.Error(), "404") {
		t.Errorf("%v", err)
	}
	if list, err = look("/harbour.gguf?token=x"); err != nil || len(list) != 1 || list[0].ID != "harbour" {
		t.Errorf("%+v, %v", list, err)
	}
}

// Nothing that a server says makes a look or an addition go on without end.
func TestServersThatNameTooMuch(t *testing.T) {
	var page strings.Builder
	page.WriteString("<a href=x>")
	for i := range 200_000 {
		fmt.Fprintf(&page, "<a href=m%d.gguf>", i)
	}
	first := read(t, harbour) // a model in one file, whatever its name says
	s := serve(t, map[string][]byte{"page.html": []byte(page.String()), "m-00001-of-01000.gguf": first, "m-00001-of-99999.gguf": first})
	if err := quick.Look(t.Context(), s.URL+"/page.html", func(m catalog.Model) { t.Errorf("%s was looked at", m.Path) }); err == nil || !strings.Contains(err.Error(), "more than 500 models") {
		t.Errorf("a long page: %v", err)
	}
	before := s.asked.Load()
	_, err := library.New(t.TempDir(), quick).Add(t.Context(), library.Addition{Source: s.URL + "/m-00001-of-01000.gguf"}, func(library.Progress) {})
	if err == nil || !strings.Contains(err.Error(), "split.count") || s.asked.Load() > before+1 {
		t.Errorf("a thousand parts: %v, %d requests", err, s.asked.Load()-before)
	}
	// More parts than any model has make a name like any other.
	if files, err := quick.Files(t.Context(), s.URL+"/m-00001-of-99999.gguf"); err != nil || len(files) != 1 {
		t.Errorf("%d files, %v", len(files), err)
	}

	endless := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "announced.json") {
			w.Header().Set("Content-Length", "900000000000")
		}
		for block := make([]byte, 1<<20); r.Context().Err() == nil; {
			if _, err := w.Write(block); err != nil {
				return
			}
		}
	}))
	defer endless.Close()
	for path, want := range map[string]string{"/announced.json": "the server announces 900000000000 bytes", "/endless.json": "the most that are taken of such a file"} {
		file := filepath.Join(t.TempDir(), "tokenizer.json")
		if err := quick.Fetch(t.Context(), endless.URL+path, file, func(int64, int64) {}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", path, err)
		}
	}
}

// A library puts what it fetches into its folder when it is whole and right, and leaves nothing of what is not.
func TestLibraryFetches(t *testing.T) {
	raw := read(t, harbour)
	files := map[string][]byte{"m.gguf": raw, "junk.gguf": []byte("junk"), "odd.gguf": bytes.ReplaceAll(raw, []byte("llama"), []byte("abacu"))}
	for _, name := range []string{"config.json", "model.safetensors", "tokenizer.json", "tokenizer_config.json", "modules.json", "1_Pooling/config.json", "2_Dense/config.json", "2_Dense/model.safetensors", "3_Dense/config.json", "3_Dense/model.safetensors"} {
		if raw, err := os.ReadFile(reference + "gemma-embed/hf/" + name); err == nil {
			files["sets/gemma/"+name] = raw
		}
	}
	s := serve(t, files)
	dir := t.TempDir()
	l := library.New(dir, quick)
	add := func(path, name, sha string) (string, error) {
		return l.Add(t.Context(), library.Addition{Source: s.URL + path, Name: name, SHA256: sha}, func(library.Progress) {})
	}
	checksum := hex.EncodeToString(sum(raw))
	s.breaks.Store(2)
	if path, err := add("/m.gguf", "", checksum); err != nil || path != filepath.Join(dir, "m.gguf") || !bytes.Equal(read(t, path), raw) {
		t.Fatalf("%s, %v", path, err)
	}
	if path, err := add("/sets/gemma/", "", ""); err != nil || path != filepath.Join(dir, "gemma") {
		t.Errorf("a folder: %s, %v", path, err)
	} else if m := catalog.Read(path); m.Problem != "" || m.Dimensions != 64 {
		t.Errorf("%+v", m)
	}
	for _, c := range []struct{ path, name, sha, param, want string }{
		{"/m.gguf", "", "", "name", "there is a m.gguf in"},
		{"/m.gguf", "other", strings.Repeat("0", 64), "sha256", "the checksum of other.gguf is " + checksum},
		{"/m.gguf", "x", "12", "sha256", "is no SHA-256"},
		{"/m.gguf", "../x", "", "name", "cannot be the name"},
		{"/junk.gguf", "", "", "source", "junk.gguf cannot be used: not a GGUF file"},
		{"/odd.gguf", "", "", "source", `architecture "abacu" is not supported`},
		{"/none.gguf", "", "", "source", "404"},
		{"/sets/", "", "", "source", "neither a .gguf file nor a folder with a config.json"},
		{"/sets/gemma", "g", checksum, "sha256", "a checksum goes with one"},
	} {
		_, err := add(c.path, c.name, c.sha)
		var e *exchange.Error
		if !errors.As(err, &e) || e.Param != c.param || !strings.Contains(e.Message, c.want) {
			t.Errorf("%s: %v, want %q", c.path, err, c.want)
		}
	}
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) != 2 {
		t.Errorf("what is in the folder: %v, %v", entries, err)
	}
}

// inParts writes the sample model to a folder in two files, and returns the path of the first.
func inParts(t *testing.T, dir string) string {
	t.Helper()
	f, err := gguf.Parse(read(t, harbour))
	if err != nil {
		t.Fatal(err)
	}
	first := filepath.Join(dir, "harbour-00001-of-00002.gguf")
	half := len(f.Tensors) / 2
	for n, tensors := range [][]weights.Tensor{f.Tensors[:half], f.Tensors[half:]} {
		metadata := []gguf.Entry{{Key: "split.no", Value: uint32(n)}, {Key: "split.count", Value: uint32(2)}, {Key: "split.tensors.count", Value: uint32(len(f.Tensors))}}
		for key, v := range f.Metadata {
			if list, err := f.Metadata.Strings(key); err == nil {
				v = list
			} else if list, err := f.Metadata.Int32s(key); err == nil {
				v = list
			} else if list, err := f.Metadata.Float32s(key); err == nil {
				v = list
			}
			if n == 0 {
				metadata = append(metadata, gguf.Entry{Key: key, Value: v})
			}
		}
		var plans []gguf.Plan
		for _, t := range tensors {
			plans = append(plans, gguf.Plan{Name: t.Name, Type: t.Type, Shape: t.Shape})
		}
		var out bytes.Buffer
		if err := gguf.Write(&out, metadata, plans, func(i int, w io.Writer) error {
			_, err := w.Write(tensors[i].Data)
			return err
		}); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(gguf.PartPath(first, n+1), out.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return first
}

// While a model arrives, another of its name is turned away, from another process too, which knows of the first only what
// lies in the folder.
func TestOneArrivesAtATime(t *testing.T) {
	raw := read(t, harbour)
	s := serve(t, map[string][]byte{"m.gguf": raw})
	for doing, a := range map[string]library.Addition{"fetching": {Source: s.URL + "/m.gguf"}, "copying": {Source: harbour, Name: "m", Copy: true}} {
		dir := t.TempDir()
		turnedAway := 0
		path, err := library.New(dir, quick).Add(t.Context(), a, func(p library.Progress) {
			if p.Doing != doing {
				return
			}
			if _, err := library.New(dir, quick).Add(t.Context(), a, func(library.Progress) {}); err == nil || !strings.Contains(err.Error(), "m is being added already") {
				t.Errorf("%s: the second: %v", doing, err)
			}
			turnedAway++
		})
		if err != nil || turnedAway == 0 || !bytes.Equal(read(t, path), raw) {
			t.Errorf("%s: the first: %s, %v; %d were turned away", doing, path, err, turnedAway)
		}
		if entries, err := os.ReadDir(dir); err != nil || len(entries) != 1 {
			t.Errorf("%s: what is in the folder: %v, %v", doing, entries, err)
		}
	}
}

// A model in two files is added by its first one, in every way, and taken out whole.
func TestLibraryOfParts(t *testing.T) {
	dir := t.TempDir()
	first := inParts(t, t.TempDir())
	s := serve(t, map[string][]byte{"harbour-00001-of-00002.gguf": read(t, first), "harbour-00002-of-00002.gguf": read(t, gguf.PartPath(first, 2))})
	l := library.New(dir, quick)
	here := func() int {
		entries, err := os.ReadDir(dir)
		if err != nil {
			t.Fatal(err)
		}
		return len(entries)
	}
	for _, a := range []library.Addition{{Source: first}, {Source: first, Name: "pier", Copy: true}, {Source: s.URL + "/harbour-00001-of-00002.gguf"}} {
		path, err := l.Add(t.Context(), a, func(library.Progress) {})
		if err != nil {
			t.Fatalf("%+v: %v", a, err)
		}
		if m := catalog.Read(path); m.Problem != "" || m.Parameters < 3_600_000 || here() != 2 {
			t.Errorf("%+v: %+v, %d files", a, m, here())
		}
		if r, err := l.Remove(path); err != nil || here() != 0 || r.Linked == (r.Files == 2) {
			t.Errorf("%+v: %+v, %v, %d files are left", a, r, err, here())
		}
	}
	if _, err := l.Add(t.Context(), library.Addition{Source: gguf.PartPath(first, 2)}, func(library.Progress) {}); err == nil || !strings.Contains(err.Error(), "name the first part") {
		t.Errorf("its second part: %v", err)
	}
	// What stands in the way of one part keeps the others out.
	other := filepath.Join(dir, "harbour-00002-of-00002.gguf")
	if err := os.WriteFile(other, []byte("another"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, a := range []library.Addition{{Source: first}, {Source: first, Copy: true}, {Source: s.URL + "/harbour-00001-of-00002.gguf"}} {
		if _, err := l.Add(t.Context(), a, func(library.Progress) {}); err == nil || !strings.Contains(err.Error(), "there is a harbour-00002-of-00002.gguf in") || here() != 1 || string(read(t, other)) != "another" {
			t.Errorf("%+v: %v, %d files", a, err, here())
		}
	}
	if _, err := os.Stat(gguf.PartPath(first, 2)); err != nil {
		t.Errorf("the original: %v", err)
	}
}

// full is a source on a disk without space.
type full struct{ Source }

func (full) Fetch(_ context.Context, _, file string, _ func(int64, int64)) error {
	if err := os.WriteFile(file, []byte("part"), 0o644); err != nil {
		return err
	}
	return &os.PathError{Op: "write", Path: file, Err: syscall.ENOSPC}
}

func TestNoSpaceLeft(t *testing.T) {
	s := serve(t, map[string][]byte{})
	_, err := library.New(t.TempDir(), full{}).Add(t.Context(), library.Addition{Source: s.URL + "/m.gguf"}, func(library.Progress) {})
	var e *exchange.Error
	if !errors.As(err, &e) || e.Code != "no_space" || !strings.Contains(e.Message, "goes on from there") {
		t.Errorf("%v", err)
	}
}

func TestLibraryOfThisMachine(t *testing.T) {
	dir, elsewhere := t.TempDir(), t.TempDir()
	l := library.New(dir, quick)
	source := filepath.Join(elsewhere, "boat.gguf")
	if err := os.WriteFile(source, read(t, harbour), 0o644); err != nil {
		t.Fatal(err)
	}
	folder := filepath.Join(elsewhere, "set")
	if err := os.CopyFS(folder, os.DirFS(reference+"qwen3/hf")); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		a      library.Addition
		linked bool
		files  int
	}{
		{library.Addition{Source: source}, true, 0},
		{library.Addition{Source: source, Name: "copy", Copy: true}, false, 1},
		{library.Addition{Source: folder}, true, 0},
		{library.Addition{Source: folder, Name: "set-copy", Copy: true}, false, 7},
	} {
		path, err := l.Add(t.Context(), c.a, func(library.Progress) {})
		if err != nil {
			t.Fatal(err)
		}
		if m := catalog.Read(path); m.Problem != "" {
			t.Errorf("%s: %s", path, m.Problem)
		}
		r, err := l.Remove(path)
		if err != nil || r.Linked != c.linked || !c.linked && r.Files < c.files-1 {
			t.Errorf("%s: %+v, %v", path, r, err)
		}
		if _, err := os.Lstat(path); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("%s is still there", path)
		}
	}
	if _, err := os.Stat(source); err != nil {
		t.Errorf("the original is gone: %v", err)
	}
	if _, err := l.Remove(source); err == nil || !strings.Contains(err.Error(), "does not lie in") {
		t.Errorf("a model of another folder: %v", err)
	}
	for _, source := range []string{elsewhere, elsewhere + "/none", reference + "shapes.json"} {
		if _, err := l.Add(t.Context(), library.Addition{Source: source}, func(library.Progress) {}); err == nil {
			t.Errorf("%s was added", source)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := l.Add(ctx, library.Addition{Source: folder, Name: "late", Copy: true}, func(library.Progress) {}); !errors.Is(err, context.Canceled) {
		t.Errorf("a copy that was stopped: %v", err)
	}
	if entries, err := os.ReadDir(dir); err != nil || len(entries) != 0 {
		t.Errorf("what is left: %v, %v", entries, err)
	}
}

func FuzzLinks(f *testing.F) {
	f.Add(`<a href="a.gguf">x</a> <A HREF='../b-00001-of-00002.gguf?x=1&amp;y'>`)
	f.Add("a.gguf\nfile:///etc/x.gguf\n#c.gguf\n//host/d.gguf")
	f.Add("folder.gguf/\n.gguf/")
	base := &url.URL{Scheme: "https", Host: "files.example", Path: "/m/"}
	f.Fuzz(func(t *testing.T, text string) {
		for _, address := range links(base, text) {
			u, err := url.Parse(address)
			if err != nil || u.Scheme != "http" && u.Scheme != "https" || !strings.EqualFold(filepath.Ext(u.Path), ".gguf") {
				t.Errorf("%q, %v", address, err)
			}
		}
	})
}

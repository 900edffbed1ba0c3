// Package library brings models into the models folder, after a look at them, and takes them out again.
package library

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/gofrs/flock"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/system"
	"kindredgate/internal/weights/disk"
	"kindredgate/internal/weights/gguf"
	"kindredgate/internal/weights/safetensors"
)

// Library is the folder that models are added to. It is safe for concurrent use, by other processes too: what is not
// whole has another name.
type Library struct {
	folder string
	source Source
}

// Source fetches files from elsewhere.
type Source interface {
	// Files are all files of the model at an address: one, the parts of one in several in their order, or those of a folder.
	Files(ctx context.Context, address string) ([]File, error)
	// Fetch writes what is at an address to a file, going on after what is there already. progress is told of the bytes
	// that are there, and of those that there will be; 0 if that is not known.
	Fetch(ctx context.Context, address, file string, progress func(done, total int64)) error
}

// File is one file of a model elsewhere.
type File struct {
	Address string
	Name    string // of the file, within the model's folder if it is one of several
}

// New makes a library of the models in folder.
func New(folder string, source Source) *Library { return &Library{folder, source} }

// Folder is where models are added.
func (l *Library) Folder() string { return l.folder }

// Addition is a model that is to be added.
type Addition struct {
	Source string // a file, a folder, or an address with http:// or https://
	Name   string // that it is to have; empty for that of its file
	SHA256 string // of the file, in hexadecimal; empty if it is not known
	Copy   bool   // copy files of this machine rather than link to them
	// Projector is the file, or the address, of the tower of a GGUF file that is to take pictures; empty for the one that lies beside it, if one does.
	Projector string
}

// Remote reports whether the source is an address.
func (a Addition) Remote() bool { return isAddress(a.Source) }

func isAddress(source string) bool {
	return strings.HasPrefix(source, "http://") || strings.HasPrefix(source, "https://")
}

// Progress is how far an addition has come.
type Progress struct {
	Doing string `json:"doing"` // checking, copying, fetching
	File  string `json:"file"`
	Done  int64  `json:"done"`  // bytes
	Total int64  `json:"total"` // bytes; 0 if it is not known
}

// Origin ends the names of files in which a Source keeps what it needs to go on with the file beside it.
const Origin = ".origin"

// partial ends the names of files and folders that are not whole.
const partial = ".incoming"

var goodName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,127}$`)

// Add checks a model and puts it into the folder. It returns the path that the model has there. The error is one for who
// asked: it says what is wrong with the model, or what stands in its way.
func (l *Library) Add(ctx context.Context, a Addition, progress func(Progress)) (path string, err error) {
	if a.Name != "" && !goodName.MatchString(a.Name) {
		return "", exchange.InvalidParam("name", "%q cannot be the name of a model; it has up to 128 letters, digits, \".\", \"_\" or \"-\", and begins with a letter or digit", a.Name)
	}
	if a.SHA256 != "" {
		if raw, err := hex.DecodeString(a.SHA256); err != nil || len(raw) != sha256.Size {
			return "", exchange.InvalidParam("sha256", "%q is no SHA-256; it has 64 hexadecimal digits", a.SHA256)
		}
	}
	if a.Projector != "" && isAddress(a.Projector) != a.Remote() {
		return "", exchange.InvalidParam("projector", "source and projector must both be addresses, or both be files of this machine")
	}
	if err := os.MkdirAll(l.folder, 0o755); err != nil {
		return "", l.inWords(err)
	}
	if a.Remote() {
		path, err = l.fetch(ctx, a, progress)
	} else {
		path, err = l.local(ctx, a, progress)
	}
	if err != nil {
		return "", l.inWords(err)
	}
	return path, nil
}

// inWords makes an error for who asked of one of the file system's.
func (l *Library) inWords(err error) error {
	var known *exchange.Error
	switch {
	case errors.As(err, &known):
		return err
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return err
	case system.DiskFull(err):
		return &exchange.Error{Kind: exchange.Unavailable, Code: "no_space", Err: err,
			Message: fmt.Sprintf("there is no space left in %s; what has come so far is kept, so that the same command goes on from there", l.folder)}
	case system.NotWritable(err):
		return &exchange.Error{Kind: exchange.Unavailable, Code: "not_writable", Err: err, Message: fmt.Sprintf("the folder %s cannot be written: %v", l.folder, err)}
	}
	return &exchange.Error{Kind: exchange.Invalid, Code: "model_unusable", Param: "source", Message: err.Error(), Err: err}
}

// target is where a model is to lie, which must be free. ext is ".gguf" or, for a folder, nothing.
func (l *Library) target(name, ext string) (string, error) {
	path := filepath.Join(l.folder, name+ext)
	return path, l.free(path)
}

// free checks that nothing lies where a model is to lie.
func (l *Library) free(target string) error {
	_, _, count, _ := gguf.Part(target)
	for n := 1; n <= max(1, count); n++ {
		if _, err := os.Lstat(partOf(target, n)); err == nil {
			return exchange.InvalidParam("name", "there is a %s in %s already; choose another name with --name, or remove that one first", filepath.Base(partOf(target, n)), l.folder)
		}
	}
	return nil
}

// check looks at a model that is not in the folder yet.
func check(path string) error {
	if err := catalog.Check(path); err != nil {
		return &exchange.Error{Kind: exchange.Invalid, Code: "model_unusable", Param: "source", Message: fmt.Sprintf("%s cannot be used: %s", filepath.Base(path), strings.TrimPrefix(err.Error(), path+": "))}
	}
	return nil
}

// local adds a model that lies on this machine.
func (l *Library) local(ctx context.Context, a Addition, progress func(Progress)) (string, error) {
	source, err := filepath.Abs(a.Source)
	if err != nil {
		return "", err
	}
	info, err := os.Stat(source)
	if err != nil {
		return "", exchange.InvalidParam("source", "%s: %v", a.Source, errors.Unwrap(err))
	}
	if info.IsDir() && !safetensors.Is(source) {
		return "", exchange.InvalidParam("source", "%s is a folder without a model: it has no config.json with safetensors files beside it", a.Source)
	}
	if base, part, count, ok := gguf.Part(source); ok && part > 1 {
		return "", exchange.InvalidParam("source", "%s is part %d of %d of %s; name the first part", a.Source, part, count, base)
	}
	progress(Progress{Doing: "checking", File: filepath.Base(source)})
	if err := check(source); err != nil {
		return "", err
	}
	if a.SHA256 != "" {
		if err := compare(source, a.SHA256); err != nil {
			return "", err
		}
	}
	name := a.Name
	if name == "" {
		name = disk.Name(source)
	}
	files, err := disk.Files(source)
	if err != nil {
		return "", err
	}
	ext := ".gguf"
	if info.IsDir() {
		ext = ""
	}
	if len(files) > 1 && !info.IsDir() {
		ext = fmt.Sprintf("-00001-of-%05d.gguf", len(files))
	}
	target, err := l.target(name, ext)
	if err != nil {
		return "", err
	}
	_, others := os.Lstat(projectorOf(target)) // nil if that of another, which may be arriving just now
	if err := l.projector(ctx, a, source, target, progress); err != nil {
		return "", err
	}
	switch {
	case a.Copy:
		err = l.copyAll(ctx, source, files, name, target, info.IsDir(), progress)
	case info.IsDir() || len(files) == 1:
		err = link(source, target)
	default:
		err = linkParts(files, target)
	}
	if err != nil && others != nil && !info.IsDir() {
		err = errors.Join(err, removeIfThere(projectorOf(target)))
	}
	return target, err
}

func removeIfThere(path string) error {
	if err := os.Remove(path); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// placeOfProjector is where a projector that was asked for is to lie, which must be free.
func (l *Library) placeOfProjector(target string) (string, error) {
	if filepath.Ext(target) != ".gguf" {
		return "", exchange.InvalidParam("projector", "a model that is a folder has its tower in that; leave the projector out")
	}
	to := projectorOf(target)
	if _, err := os.Lstat(to); err == nil {
		return "", exchange.InvalidParam("projector", "there is a %s in %s already; choose another name for the model with --name, or delete that file first", filepath.Base(to), l.folder)
	}
	return to, nil
}

// projector brings the file with the tower of a model, if it has one apart, under a name that begins as the model's: so it is that model's, whatever others
// of the same width come. It comes first, so that the model is never seen without.
func (l *Library) projector(ctx context.Context, a Addition, source, target string, progress func(Progress)) error {
	file, err := a.Projector, error(nil)
	if file == "" {
		file, err = disk.Projector(source)
	} else if _, err = l.placeOfProjector(target); err == nil {
		if file, err = filepath.Abs(file); err == nil {
			if wrong := disk.CheckProjector(file, source); wrong != nil {
				return exchange.InvalidParam("projector", "%v", wrong)
			}
		}
	}
	if two := (*disk.TwoProjectorsError)(nil); errors.As(err, &two) {
		return exchange.InvalidParam("source", "%v", err)
	}
	if err != nil || file == "" {
		return err
	}
	to := projectorOf(target)
	if !a.Copy {
		return link(file, to)
	}
	partly := to + partial
	if _, err := copyFile(ctx, partly, file, func(done int64) { progress(Progress{"copying", filepath.Base(file), done, 0}) }); err != nil {
		return errors.Join(err, os.Remove(partly))
	}
	return os.Rename(partly, to)
}

// projectorOf is what the projector of an added model is called.
func projectorOf(target string) string {
	return filepath.Join(filepath.Dir(target), disk.Name(target)+"-projector.gguf")
}

// link makes a symbolic link, which not every disk and every user may have.
func link(source, target string) error {
	err := os.Symlink(source, target)
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%w; a link to the files is not possible here, so have them copied, with --copy", err)
	}
	return err
}

// linkParts links to the parts of a model, all or none; the first one last, since it is the one that is looked for.
func linkParts(files []string, target string) error {
	for n := len(files); n >= 1; n-- {
		if err := link(files[n-1], gguf.PartPath(target, n)); err != nil {
			for made := n + 1; made <= len(files); made++ {
				err = errors.Join(err, os.Remove(gguf.PartPath(target, made)))
			}
			return err
		}
	}
	return nil
}

// copyAll copies the files of a model to where it arrives, and then to its target.
func (l *Library) copyAll(ctx context.Context, source string, files []string, name, target string, folder bool, progress func(Progress)) (err error) {
	var total, before int64
	for _, file := range files {
		info, err := os.Stat(file)
		if err != nil {
			return err
		}
		total += info.Size()
	}
	dir := filepath.Join(l.folder, "."+name+".copy"+partial) // beside what a fetch may have left to go on with
	release, err := l.claim(dir, name, target)
	if err != nil {
		return err
	}
	defer release()
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(dir))
		}
	}()
	for n, file := range files {
		to := filepath.Join(dir, filepath.Base(partOf(target, n+1)))
		if folder {
			rest, err := filepath.Rel(source, file)
			if err != nil {
				return err
			}
			to = filepath.Join(dir, rest)
			if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
				return err
			}
		}
		copied, err := copyFile(ctx, to, file, func(done int64) {
			progress(Progress{"copying", filepath.Base(file), before + done, total})
		})
		if err != nil {
			return err
		}
		before += copied
	}
	return settle(dir, target, len(files), folder)
}

// partOf is file n, from 1, of a model whose first or only file is target.
func partOf(target string, n int) string {
	if _, _, _, ok := gguf.Part(target); ok {
		return gguf.PartPath(target, n)
	}
	return target
}

// settle moves a model that is whole from where it arrived to its target.
func settle(dir, target string, files int, folder bool) error {
	if folder {
		return os.Rename(dir, target)
	}
	// The first part last, since it is the one that is looked for.
	for n := files; n >= 1; n-- {
		part := partOf(target, n)
		if err := os.Rename(filepath.Join(dir, filepath.Base(part)), part); err != nil {
			return err
		}
	}
	return os.RemoveAll(dir)
}

func copyFile(ctx context.Context, to, from string, progress func(done int64)) (n int64, err error) {
	in, err := os.Open(from)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	for {
		if ctx.Err() != nil {
			return n, context.Cause(ctx)
		}
		some, err := io.CopyN(out, in, 4<<20)
		n += some
		progress(n)
		if errors.Is(err, io.EOF) {
			return n, out.Sync()
		} else if err != nil {
			return n, err
		}
	}
}

// compare holds a file against a checksum.
func compare(file, want string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return err
	}
	if got := hex.EncodeToString(h.Sum(nil)); !strings.EqualFold(got, want) {
		return exchange.InvalidParam("sha256", "the checksum of %s is %s, not %s: it is another file, or damaged", filepath.Base(file), got, strings.ToLower(want))
	}
	return nil
}

// fetch adds a model from an address. What has come is kept when it breaks off, so that the next try goes on from there.
func (l *Library) fetch(ctx context.Context, a Addition, progress func(Progress)) (string, error) {
	files, err := l.source.Files(ctx, a.Source)
	if err != nil {
		return "", err
	}
	first := files[0].Name
	folder := !strings.EqualFold(filepath.Ext(first), ".gguf")
	if a.SHA256 != "" && len(files) > 1 {
		return "", exchange.InvalidParam("sha256", "the model has %d files; a checksum goes with one", len(files))
	}
	name, ext := a.Name, ".gguf"
	if base, part, count, ok := gguf.Part(first); ok {
		if part != 1 {
			return "", exchange.InvalidParam("source", "%s is part %d of %d; name the first part", first, part, count)
		}
		ext = fmt.Sprintf("-00001-of-%05d.gguf", count)
		if name == "" {
			name = base
		}
	}
	switch {
	case folder:
		ext = ""
		if name == "" {
			name = folderName(a.Source)
		}
	case name == "":
		name = strings.TrimSuffix(first, filepath.Ext(first))
	}
	if !goodName.MatchString(name) {
		return "", exchange.InvalidParam("name", "the address gives the model no name; choose one with --name")
	}
	target, err := l.target(name, ext)
	if err != nil {
		return "", err
	}
	projector := ""
	if a.Projector != "" {
		if projector, err = l.placeOfProjector(target); err != nil {
			return "", err
		}
	}
	dir := filepath.Join(l.folder, "."+name+partial)
	release, err := l.claim(dir, name, target)
	if err != nil {
		return "", err
	}
	defer release()
	for n, file := range files {
		to := file.Name
		if !folder {
			to = filepath.Base(partOf(target, n+1))
		}
		to = filepath.Join(dir, filepath.FromSlash(to))
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return "", err
		}
		err := l.source.Fetch(ctx, file.Address, to, func(done, total int64) {
			progress(Progress{"fetching", file.Name, done, total})
		})
		if err != nil {
			return "", errors.Join(err, removeEmpty(dir))
		}
	}
	incoming := dir
	if !folder {
		incoming = filepath.Join(dir, filepath.Base(target))
	}
	if projector != "" {
		if err := l.fetchProjector(ctx, a.Projector, filepath.Join(dir, filepath.Base(projector)), incoming, progress); err != nil {
			return "", err
		}
	}
	progress(Progress{Doing: "checking", File: name})
	if err := removeOrigins(dir); err != nil {
		return "", err
	}
	err = check(incoming)
	if err == nil && a.SHA256 != "" {
		err = compare(incoming, a.SHA256)
	}
	if err != nil {
		return "", errors.Join(err, os.RemoveAll(dir)) // going on from there would lead to the same
	}
	if projector != "" { // first, so that the model is never seen without
		if err := os.Rename(filepath.Join(dir, filepath.Base(projector)), projector); err != nil {
			return "", err
		}
	}
	err = settle(dir, target, len(files), folder)
	if err != nil && projector != "" {
		err = errors.Join(err, removeIfThere(projector))
	}
	return target, err
}

// fetchProjector fetches the projector of a model, which has come already. One that does not fit goes; the model stays, to go on with.
func (l *Library) fetchProjector(ctx context.Context, address, to, path string, progress func(Progress)) error {
	err := l.source.Fetch(ctx, address, to, func(done, total int64) {
		progress(Progress{"fetching", filepath.Base(to), done, total})
	})
	if err != nil {
		return err
	}
	if err := disk.CheckProjector(to, path); err != nil {
		return exchange.InvalidParam("projector", "%v; what has come of the model is kept", errors.Join(err, os.Remove(to), removeIfThere(to+Origin)))
	}
	return nil
}

// claim makes the folder in which a model arrives the caller's own until it calls release, or its process ends. Two that
// wrote the same files would spoil them for both.
func (l *Library) claim(dir, name, target string) (release func(), err error) {
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return nil, err
	}
	lock := flock.New(dir + ".lock")
	mine, err := lock.TryLock()
	switch {
	case err != nil:
		return nil, err
	case !mine:
		return nil, exchange.InvalidParam("name", "%s is being added already; wait for it, or choose another name with --name", name)
	}
	release = func() {
		// The file goes while it is locked, or else, where open files cannot go, after that. Its rests disturb nobody.
		removed := os.Remove(lock.Path()) == nil
		if lock.Unlock() == nil && !removed {
			_ = os.Remove(lock.Path())
		}
	}
	// Who had it before may have taken it away between the two steps of locking.
	held, err1 := lock.Stat()
	there, err2 := os.Stat(lock.Path())
	if errors.Join(err1, err2) != nil || !os.SameFile(held, there) {
		_ = lock.Unlock() // nobody finds that one any more
		return nil, exchange.InvalidParam("name", "%s was being added until now; see what is installed, and try again if it is not there", name)
	}
	if err := l.free(target); err != nil { // who had it until now may have finished
		release()
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		release()
		return nil, err
	}
	return release, nil
}

// removeEmpty removes a folder if nothing has come into it.
func removeEmpty(dir string) error {
	bytes := int64(0)
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, Origin) {
			return err
		}
		info, err := d.Info()
		if err == nil {
			bytes += info.Size()
		}
		return err
	})
	if err == nil && bytes == 0 {
		err = os.RemoveAll(dir)
	}
	return err
}

func removeOrigins(dir string) error {
	return filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(path, Origin) {
			err = os.Remove(path)
		}
		return err
	})
}

// NameOf is the name that a model from an address gets if it is given none; empty if the address has none.
func NameOf(address string) string {
	name := folderName(address)
	if base, _, _, ok := gguf.Part(name); ok {
		return base
	}
	return strings.TrimSuffix(name, ".gguf")
}

// folderName is the name of the folder that an address is, or is in.
func folderName(address string) string {
	address, _, _ = strings.Cut(address, "?")
	address = strings.TrimSuffix(address, "/"+safetensors.ConfigFile)
	address = strings.TrimRight(address, "/")
	return address[strings.LastIndexByte(address, '/')+1:]
}

// Removal is what removing a model did.
type Removal struct {
	Linked bool  `json:"linked"` // only a link was removed; the files lie elsewhere, untouched
	Files  int   `json:"files"`  // that were deleted
	Bytes  int64 `json:"bytes"`  // of these
}

// Owned tells what removing the model at path would do. A model that lies in another folder is not ours to delete: the
// error says so.
func (l *Library) Owned(path string) (Removal, error) {
	inside, err := filepath.Rel(l.folder, path)
	if err != nil || inside == "." || strings.HasPrefix(inside, "..") {
		return Removal{}, exchange.InvalidParam("model", "%s does not lie in %s, where models are added; take it out of its folder yourself", path, l.folder)
	}
	if info, err := os.Lstat(path); err != nil {
		return Removal{}, err
	} else if info.Mode()&fs.ModeSymlink != 0 {
		return Removal{Linked: true}, nil
	}
	files, err := disk.Files(path)
	if err != nil {
		return Removal{}, err
	}
	var r Removal
	for _, file := range append(files, projectorOf(path)) {
		if info, err := os.Stat(file); err == nil {
			r.Files++
			r.Bytes += info.Size()
		}
	}
	return r, nil
}

// Remove takes the model at path out of the folder.
func (l *Library) Remove(path string) (Removal, error) {
	r, err := l.Owned(path)
	if err != nil {
		return r, err
	}
	info, err := os.Lstat(path)
	if err != nil {
		return r, err
	}
	if _, _, count, ok := gguf.Part(path); ok && !info.IsDir() {
		for n := count; n > 1; n-- {
			if err := os.Remove(gguf.PartPath(path, n)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return r, err
			}
		}
		return r, os.Remove(path)
	}
	if r.Linked || !info.IsDir() {
		if err := removeIfThere(projectorOf(path)); err != nil {
			return r, err
		}
		return r, os.Remove(path)
	}
	return r, os.RemoveAll(path)
}

package disk

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"kindredgate/internal/weights"
	"kindredgate/internal/weights/gguf"
)

// projector is a file with a tower for pictures, as GGUF files have them apart from the model.
type projector struct {
	path  string
	width int // of the text models that it is for
}

// folderFiles are the projectors of a folder and, if there are any, how wide its text models are, as it was when the folder was last changed.
type folderFiles struct {
	changed time.Time
	read    time.Time
	list    []projector
	texts   map[string]int // by path
}

var (
	foldersMu sync.Mutex
	folders   = map[string]folderFiles{}
)

// TwoProjectorsError says that several projectors fit a model, so that nobody can tell which is meant.
type TwoProjectorsError struct{ Paths []string }

func (e *TwoProjectorsError) Error() string {
	names := make([]string, len(e.Paths))
	for i, p := range e.Paths {
		names[i] = filepath.Base(p)
	}
	return fmt.Sprintf("%s all fit the model; leave one of them in its folder", strings.Join(names, ", "))
}

// Projector finds the file with the tower for the GGUF text model at path; "" if there is none in its folder. Of several that fit, it is the one that is
// named like the model. The error is a *[TwoProjectorsError], or one of reading the folder.
func Projector(path string) (string, error) {
	f, err := filesIn(filepath.Dir(path))
	if err != nil || f.texts[path] == 0 {
		return "", err
	}
	var fit, named []string
	for _, p := range f.list {
		if p.width == f.texts[path] {
			if fit = append(fit, p.path); strings.HasPrefix(Name(p.path), Name(path)) {
				named = append(named, p.path)
			}
		}
	}
	if len(named) == 1 {
		fit = named
	}
	switch len(fit) {
	case 0:
		return "", nil
	case 1:
		return fit[0], nil
	}
	return "", &TwoProjectorsError{fit}
}

const (
	clockTick = 2 * time.Second        // that times of files are apart at the least, in the worst of file systems
	readAgain = 200 * time.Millisecond // after which a folder is read again that may have changed
)

// filesIn lists the projectors of a folder. Headers are read again only when files have come or gone.
func filesIn(folder string) (folderFiles, error) {
	info, err := os.Stat(folder)
	if err != nil {
		return folderFiles{}, err
	}
	foldersMu.Lock()
	defer foldersMu.Unlock()
	// A folder that was read just after it had changed may have changed again within what its clock tells apart. Then it is read again, but not for
	// every request.
	if known, ok := folders[folder]; ok && known.changed.Equal(info.ModTime()) && (known.read.Sub(known.changed) > clockTick || time.Since(known.read) < readAgain) {
		return known, nil
	}
	begun := time.Now()
	entries, err := os.ReadDir(folder)
	if err != nil {
		return folderFiles{}, err
	}
	f := folderFiles{changed: info.ModTime(), read: begun, texts: map[string]int{}}
	for _, e := range entries {
		path := filepath.Join(folder, e.Name())
		if !strings.EqualFold(filepath.Ext(path), ".gguf") {
			continue
		}
		if width, tower := look(path); tower && width > 0 {
			f.list = append(f.list, projector{path, width})
		} else if width > 0 {
			f.texts[path] = width
		}
	}
	folders[folder] = f
	return f, nil
}

// ProjectorArchitecture is what projectors' files say that they are.
const ProjectorArchitecture = "clip"

// look reads the header of a file: how wide the model is, or that which a projector is for. It is 0 for what cannot be read, or has several parts of which this is
// not the first.
func look(path string) (width int, tower bool) {
	c, err := gguf.Open(path)
	if err != nil {
		return 0, false
	}
	defer func() { _ = c.Close() }() // it was only looked at
	if c.Architecture == ProjectorArchitecture {
		return ProjectorWidth(c), true
	}
	return c.Hyper.Width, false
}

// ProjectorWidth is the width of the models that a projector is for; 0 if it does not say.
func ProjectorWidth(c *weights.Checkpoint) int {
	if t, ok := c.Find("mm.input_projection.weight"); ok && len(t.Shape) == 2 {
		return t.Shape[1]
	}
	if t, ok := c.Find("mm.2.weight"); ok && len(t.Shape) == 2 {
		return t.Shape[0]
	}
	return c.Facts.Int("vision.projection_dim")
}

// CheckProjector checks that a file is a projector for text models as wide as the GGUF one at path.
func CheckProjector(file, path string) error {
	width, tower := look(file)
	model, _ := look(path)
	switch {
	case !tower || width == 0:
		return fmt.Errorf("%s is no projector: no GGUF file with a tower for pictures", filepath.Base(file))
	case width != model:
		return fmt.Errorf("%s is a projector for models that are %d wide, and %s is %d wide", filepath.Base(file), width, filepath.Base(path), model)
	}
	return nil
}

// All are the files of the model at path, that with its tower included.
func All(path string) ([]string, error) {
	list, err := Files(path)
	if err != nil || !strings.EqualFold(filepath.Ext(path), ".gguf") {
		return list, err
	}
	if tower, err := Projector(path); err == nil && tower != "" {
		list = append(list, tower)
	}
	return list, nil
}

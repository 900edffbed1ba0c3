// Package catalog knows which models are installed: it looks through folders for weight files and reads
// their headers.
package catalog

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/model"
	"kindredgate/internal/prompt"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/weights/gguf"
)

// Use is what a model can be asked for.
type Use string

// The uses.
const (
	Chat       Use = "chat"       // conversations, by its template, and raw prompts
	Completion Use = "completion" // raw prompts only: it has no template
	Embedding  Use = "embedding"  // vectors
)

// Model is an installed model and its facts, as its file states them.
type Model struct {
	ID            string    `json:"id"` // the name that applications use
	Path          string    `json:"path"`
	Use           Use       `json:"use,omitempty"`
	Architecture  string    `json:"architecture,omitempty"`
	Description   string    `json:"description,omitempty"`
	License       string    `json:"license,omitempty"`
	Parameters    int64     `json:"parameters,omitempty"`
	Weights       string    `json:"weights,omitempty"` // the storage type of most of them
	Size          int64     `json:"size"`              // bytes of the file
	ContextLength int       `json:"context_length,omitempty"`
	Vocabulary    int       `json:"vocabulary,omitempty"`
	Dimensions    int       `json:"dimensions,omitempty"` // of the vectors of an embedding model
	Tokenizer     string    `json:"tokenizer,omitempty"`
	Installed     time.Time `json:"installed"`         // when the file was last changed
	Problem       string    `json:"problem,omitempty"` // why it cannot be used, if it cannot
	// Defaults are what the model's author recommends for sampling, from generation_config.json beside the
	// weights.
	Defaults Defaults `json:"defaults"`
	// Template is what its chat template can lay out; nil if it has none.
	Template *prompt.Abilities `json:"template,omitempty"`
}

// Defaults are sampling values for requests that name none. A nil field means that the author has no opinion.
type Defaults struct {
	Temperature *float64 `json:"temperature,omitempty"`
	TopP        *float64 `json:"top_p,omitempty"`
	TopK        *int     `json:"top_k,omitempty"`
}

// readDefaults reads generation_config.json in the folder of a weights file, if there is one.
func readDefaults(weights string) (Defaults, error) {
	var doc struct {
		Defaults
		Sample *bool `json:"do_sample"`
	}
	raw, err := os.ReadFile(filepath.Join(filepath.Dir(weights), "generation_config.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return Defaults{}, nil
	} else if err != nil {
		return Defaults{}, err
	}
	if err := json.Unmarshal(raw, &doc); err != nil {
		return Defaults{}, fmt.Errorf("generation_config.json: %w", err)
	}
	if doc.Sample != nil && !*doc.Sample {
		doc.Temperature = new(float64)
	}
	return doc.Defaults, nil
}

// Usable reports whether the model can be asked for anything.
func (m Model) Usable() bool { return m.Problem == "" }

// Catalog looks through folders. It is safe for concurrent use.
type Catalog struct {
	folders []string

	mu    sync.RWMutex
	known map[string]entry // by path
	last  []Model          // what Models gave last
}

// entry is what was read of a file, and the state of the file then.
type entry struct {
	size    int64
	changed time.Time
	model   Model
}

// New makes a catalog of the models in folders and their subfolders.
func New(folders ...string) *Catalog {
	return &Catalog{folders: folders, known: map[string]entry{}}
}

// Folders are where the catalog looks.
func (c *Catalog) Folders() []string { return slices.Clone(c.folders) }

// Models lists what is installed now, by name. A file is read again only if it changed. Folders that do not
// exist are empty; other failures to read a folder are returned together with what was found elsewhere.
func (c *Catalog) Models() ([]Model, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	var problems []error
	found := map[string]entry{}
	for _, folder := range c.folders {
		err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				if path == folder && errors.Is(err, fs.ErrNotExist) {
					return nil
				}
				problems = append(problems, err)
				return nil
			}
			if d.IsDir() || !strings.EqualFold(filepath.Ext(path), ".gguf") {
				return nil
			}
			info, err := os.Stat(path) // follows links
			if err != nil {
				problems = append(problems, err)
				return nil
			}
			if info.IsDir() {
				return nil
			}
			old, ok := c.known[path]
			if !ok || old.size != info.Size() || !old.changed.Equal(info.ModTime()) {
				old = entry{size: info.Size(), changed: info.ModTime(), model: read(path, info)}
			}
			found[path] = old
			return nil
		})
		if err != nil {
			problems = append(problems, err)
		}
	}
	c.known = found
	c.last = named(found)
	return slices.Clone(c.last), errors.Join(problems...)
}

// unchanged finds a model among those listed last, if its file is still as it was. It spares a walk through the folders
// for every request.
func (c *Catalog) unchanged(id string) (Model, bool) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	i := slices.IndexFunc(c.last, func(m Model) bool { return m.ID == id })
	if i < 0 {
		return Model{}, false
	}
	m := c.last[i]
	info, err := os.Stat(m.Path)
	e := c.known[m.Path]
	return m, err == nil && info.Size() == e.size && info.ModTime().Equal(e.changed)
}

// named gives every model its public name: that in its file, or, where several have the same, the file's.
func named(found map[string]entry) []Model {
	models := make([]Model, 0, len(found))
	times := map[string]int{}
	for _, e := range found {
		models = append(models, e.model)
		times[e.model.ID]++
	}
	slices.SortFunc(models, func(a, b Model) int { return strings.Compare(a.Path, b.Path) })
	taken := map[string]bool{}
	for i := range models {
		m := &models[i]
		if times[m.ID] > 1 {
			m.ID = stem(m.Path)
		}
		for n, base := 2, m.ID; taken[m.ID]; n++ {
			m.ID = fmt.Sprintf("%s-%d", base, n)
		}
		taken[m.ID] = true
	}
	slices.SortFunc(models, func(a, b Model) int { return strings.Compare(a.ID, b.ID) })
	return models
}

// Find returns the usable model with that name. The error is an [exchange.Error] that names the nearest ones.
func (c *Catalog) Find(id string) (Model, error) {
	if m, ok := c.unchanged(id); ok && m.Usable() {
		return m, nil
	}
	models, _ := c.Models() // what cannot be read is not installed
	var names []string
	for _, m := range models {
		if m.ID == id {
			if !m.Usable() {
				return m, exchange.Errorf(exchange.Unavailable, "model_unusable", "model %q cannot be used: %s", id, m.Problem)
			}
			return m, nil
		}
		if m.Usable() {
			names = append(names, m.ID)
		}
	}
	return Model{}, NotInstalled(id, names)
}

// NotInstalled is the error for a model that is not among the names.
func NotInstalled(id string, names []string) error {
	err := exchange.Errorf(exchange.NotFound, "model_not_found", "model %q is not installed; ", id)
	err.Param = "model"
	switch near := nearest(id, names); {
	case len(names) == 0:
		err.Message += "no model is: put a weights file into one of the models folders"
	case len(near) < len(names):
		err.Message += fmt.Sprintf("the nearest of the %d installed: %s", len(names), strings.Join(near, ", "))
	default:
		err.Message += "installed: " + strings.Join(near, ", ")
	}
	return err
}

// nearest are the names most like id, five at most, the most alike first.
func nearest(id string, names []string) []string {
	near := slices.Clone(names)
	distance := map[string]int{}
	for _, n := range near {
		distance[n] = editDistance(strings.ToLower(id), strings.ToLower(n))
	}
	slices.SortStableFunc(near, func(a, b string) int { return distance[a] - distance[b] })
	return near[:min(5, len(near))]
}

// editDistance is the number of insertions, deletions and changes of bytes between a and b (Levenshtein).
func editDistance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			change := diagonal
			if a[i] != b[j] {
				change++
			}
			diagonal = row[j+1]
			row[j+1] = min(change, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}

// read takes the facts from a file's header. What is wrong with it becomes its Problem.
func read(path string, info fs.FileInfo) Model {
	m := Model{ID: stem(path), Path: path, Size: info.Size(), Installed: info.ModTime().UTC()}
	f, err := gguf.Open(path)
	if err != nil {
		m.Problem = strings.TrimPrefix(err.Error(), path+": ")
		return m
	}
	defer f.Close()
	text := func(key string) string {
		s, _ := f.Metadata.String(key) // a fact that is missing is left empty
		return s
	}
	if name := slug(text("general.name")); name != "" {
		m.ID = name
	}
	m.Architecture = text("general.architecture")
	m.Description = text("general.description")
	m.License = text("general.license")
	m.Tokenizer = text("tokenizer.ggml.model")
	m.Parameters = f.Parameters()
	m.Weights = weights(f)
	shape, err := model.Describe(f)
	if err != nil {
		m.Problem = err.Error()
		return m
	}
	m.ContextLength, m.Vocabulary = shape.ContextLength, shape.Vocab
	tok, err := tokenizer.FromGGUF(f.Metadata)
	if err != nil {
		m.Problem = err.Error()
		return m
	}
	if m.Defaults, err = readDefaults(path); err != nil {
		m.Problem = err.Error()
		return m
	}
	if shape.Embeds() {
		m.Use, m.Dimensions = Embedding, shape.Dim
		return m
	}
	m.Use = Completion
	if source := text("tokenizer.chat_template"); source != "" {
		m.Use = Chat
		t, err := prompt.New(source, tok)
		if err != nil {
			m.Problem = err.Error()
			return m
		}
		abilities := t.Abilities()
		m.Template = &abilities
	}
	return m
}

// weights is the storage type that most of the file's bytes are in.
func weights(f *gguf.File) string {
	bytes := map[string]int{}
	most := ""
	for _, t := range f.Tensors {
		bytes[t.Type.String()] += len(t.Data)
		if bytes[t.Type.String()] > bytes[most] {
			most = t.Type.String()
		}
	}
	return most
}

func stem(path string) string {
	base := filepath.Base(path)
	if s := slug(strings.TrimSuffix(base, filepath.Ext(base))); s != "" {
		return s
	}
	return "model"
}

// slug makes a name fit for a URL: lower case, with hyphens for what is neither letter, digit nor one of "._".
func slug(name string) string {
	s := strings.Map(func(r rune) rune {
		switch {
		case 'a' <= r && r <= 'z', '0' <= r && r <= '9', r == '.', r == '_':
			return r
		case 'A' <= r && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, name)
	return strings.Trim(s, "-.")
}

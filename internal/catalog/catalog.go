// Package catalog knows which models are installed: it looks through folders for models and reads their headers. No
// vocabulary is built and no weight read for that.
package catalog

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/agnivade/levenshtein"

	"kindredgate/internal/exchange"
	"kindredgate/internal/kv"
	"kindredgate/internal/model"
	"kindredgate/internal/prompt"
	"kindredgate/internal/sampling"
	"kindredgate/internal/system"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/disk"
	"kindredgate/internal/weights/safetensors"
)

// Use is what a model can be asked for.
type Use string

// Writes reports whether it is asked for texts.
func (u Use) Writes() bool { return u == Chat || u == Completion }

// The uses.
const (
	Chat       Use = "chat"       // conversations, by its template, and raw prompts
	Completion Use = "completion" // raw prompts only: it has no template
	Embedding  Use = "embedding"  // vectors
	Rerank     Use = "rerank"     // scores of documents
)

// Model is an installed model and its facts, as its files state them.
type Model struct {
	ID             string    `json:"id"` // the name that applications use
	Path           string    `json:"path"`
	Machine        string    `json:"machine,omitempty"` // that it is on, where Path is its name; empty for this one
	Layout         string    `json:"layout,omitempty"`  // GGUF or safetensors
	Use            Use       `json:"use,omitempty"`
	Title          string    `json:"title,omitempty"` // what its author calls it
	Architecture   string    `json:"architecture,omitempty"`
	Description    string    `json:"description,omitempty"`
	License        string    `json:"license,omitempty"`
	Parameters     int64     `json:"parameters,omitempty"`
	Weights        string    `json:"weights,omitempty"` // the storage type of most of them
	Shares         []Share   `json:"shares,omitempty"`  // all storage types
	Size           int64     `json:"size"`              // bytes of the files
	ContextLength  int       `json:"context_length,omitempty"`
	TrainedContext int       `json:"trained_context,omitempty"` // before positions were stretched, if they were
	ContextBytes   int64     `json:"context_bytes,omitempty"`   // that a whole context takes
	StateBytes     int64     `json:"state_bytes,omitempty"`     // of these, what a context takes whatever its length
	Attention      []string  `json:"attention,omitempty"`       // what layers attend to, and how positions are rotated
	Vocabulary     int       `json:"vocabulary,omitempty"`
	Dimensions     int       `json:"dimensions,omitempty"` // of the vectors of an embedding model
	Nested         []int     `json:"nested_dimensions,omitempty"`
	Purposes       []string  `json:"purposes,omitempty"` // for which an embedding model has prompts
	Tokenizer      string    `json:"tokenizer,omitempty"`
	Installed      time.Time `json:"installed"`             // when the files were last changed
	TokenBytes     int64     `json:"token_bytes,omitempty"` // of weights, that are read for each token
	Digest         string    `json:"-"`                     // of what its files hold
	Problem        string    `json:"problem,omitempty"`     // why it cannot be used, if it cannot
	Nearest        string    `json:"nearest,omitempty"`     // what would run instead
	Arriving       bool      `json:"arriving,omitempty"`    // it is not whole, and was written to just now
	// Defaults are what the model's author recommends for sampling.
	Defaults Defaults `json:"defaults"`
	// Template is what its chat template can lay out; nil if it has none.
	Template *prompt.Abilities `json:"template,omitempty"`
	// Pictures is how it takes pictures; nil if its files have nothing for that.
	Pictures *Pictures `json:"pictures,omitempty"`
}

// Pictures is how a model takes pictures.
type Pictures struct {
	Kind    string `json:"kind,omitempty"`   // of the tower
	Tokens  int    `json:"tokens,omitempty"` // that each takes, where that is always the same
	Least   int    `json:"least,omitempty"`  // and where it is not, the fewest and the most
	Most    int    `json:"most,omitempty"`
	File    string `json:"file,omitempty"`    // that the tower is in, if it is one of its own
	Problem string `json:"problem,omitempty"` // why it takes none, though its files have a tower
}

// Sees reports whether the model takes pictures.
func (m Model) Sees() bool { return m.Pictures != nil && m.Pictures.Problem == "" }

// Share is how many bytes of a model are stored as one type.
type Share struct {
	Type  string `json:"type"`
	Bytes int64  `json:"bytes"`
}

// Defaults are sampling values for requests that name none. A nil field means that the author has no opinion.
type Defaults = sampling.Settings

// Usable reports whether the model can be asked for anything.
func (m Model) Usable() bool { return m.Problem == "" }

// Names keeps which name a model got when it was first seen, so that it is never another because of what came later.
type Names interface {
	ModelNames() (map[string]string, error) // by path
	NameModel(path, name string) error
}

// Catalog looks through folders. It is safe for concurrent use.
type Catalog struct {
	folders []string
	keep    Names // nil if names are kept in memory only

	mu    sync.RWMutex
	known map[string]entry  // by path
	names map[string]string // by path, of models that were there once too
	last  []Model           // what Models gave last
}

// entry is what was read of a model, and the state of its files then.
type entry struct {
	identity string
	model    Model
}

// New makes a catalog of the models in folders and their subfolders.
func New(keep Names, folders ...string) *Catalog {
	return &Catalog{folders: folders, keep: keep, known: map[string]entry{}}
}

// Folders are where the catalog looks.
func (c *Catalog) Folders() []string { return slices.Clone(c.folders) }

// Models lists what is installed now, by name. A model is read again only if its files changed, or if it was not whole.
// Folders that do not exist are empty; other failures to read a folder are returned together with what was found
// elsewhere.
func (c *Catalog) Models() ([]Model, error) {
	c.mu.RLock()
	known := c.known
	c.mu.RUnlock()
	var problems []error
	found := map[string]entry{}
	for _, folder := range c.folders {
		if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		disk.Find(folder, func(path string) {
			identity, err := disk.Identity(path)
			if err != nil {
				problems = append(problems, err)
				return
			}
			old, ok := known[path]
			if !ok || old.identity != identity || old.model.Arriving {
				old = entry{identity, Read(path)}
			}
			found[path] = old
		}, func(err error) { problems = append(problems, err) })
	}
	for _, e := range found { // what a model sees with is a part of it
		if e.model.Pictures != nil && e.model.Pictures.File != "" {
			delete(found, e.model.Pictures.File)
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if err := c.name(found); err != nil {
		problems = append(problems, err)
	}
	c.known = found
	c.last = c.last[:0:0]
	for _, e := range found {
		c.last = append(c.last, e.model)
	}
	slices.SortFunc(c.last, func(a, b Model) int { return strings.Compare(a.ID, b.ID) })
	return slices.Clone(c.last), errors.Join(problems...)
}

// Known finds a usable model among those listed last, if its files are still as they were. It spares a walk through the
// folders for every request.
func (c *Catalog) Known(id string) (Model, bool) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	i := slices.IndexFunc(c.last, func(m Model) bool { return m.ID == id })
	if i < 0 {
		return Model{}, false
	}
	m := c.last[i]
	identity, err := disk.Identity(m.Path)
	return m, err == nil && identity == c.known[m.Path].identity && m.Usable()
}

// name gives every model its public name: that of its file or folder, with a number if another has it already. What a
// model was once called it stays.
func (c *Catalog) name(found map[string]entry) error {
	if c.names == nil {
		c.names = map[string]string{}
		if c.keep != nil {
			names, err := c.keep.ModelNames()
			if err != nil {
				return err
			}
			c.names = names
		}
	}
	taken := map[string]bool{}
	var fresh []string
	for path := range found {
		if name, ok := c.names[path]; ok {
			taken[name] = true
		} else {
			fresh = append(fresh, path)
		}
	}
	// Those nearest to the top first, so that a folder with a copy does not take the name of the original.
	slices.SortFunc(fresh, func(a, b string) int {
		if d := strings.Count(a, string(filepath.Separator)) - strings.Count(b, string(filepath.Separator)); d != 0 {
			return d
		}
		return strings.Compare(a, b)
	})
	var problems []error
	for _, path := range fresh {
		base := slug(disk.Name(path))
		if base == "" {
			base = "model"
		}
		name := base
		for n := 2; taken[name]; n++ {
			name = fmt.Sprintf("%s-%d", base, n)
		}
		taken[name], c.names[path] = true, name
		if c.keep != nil {
			if err := c.keep.NameModel(path, name); err != nil {
				problems = append(problems, err)
			}
		}
	}
	for path, e := range found {
		e.model.ID = c.names[path]
		found[path] = e
	}
	return errors.Join(problems...)
}

// Find returns the usable model with that name. The error is an [exchange.Error] that names the nearest ones.
func (c *Catalog) Find(id string) (Model, error) {
	if m, ok := c.Known(id); ok {
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
		err.Message += "no model is: \"kindred models add\" brings one"
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
		distance[n] = levenshtein.ComputeDistance(strings.ToLower(id), strings.ToLower(n))
	}
	slices.SortStableFunc(near, func(a, b string) int { return distance[a] - distance[b] })
	return near[:min(5, len(near))]
}

// arrivalTime is how long after the last change a file that is not whole counts as one that is being copied.
const arrivalTime = 10 * time.Second

// Read takes the facts from the headers of the model at path. What is wrong with it becomes its Problem. Its name is that
// of its file.
func Read(path string) Model {
	m := Model{ID: slug(disk.Name(path)), Path: path}
	files, err := disk.All(path)
	for _, file := range files {
		if info, err := os.Stat(file); err == nil {
			if m.Installed = later(m.Installed, info.ModTime().UTC()); filepath.Ext(file) != ".json" {
				m.Size += info.Size()
			}
		}
	}
	if err == nil {
		err = weights.Guarded(func() error { return m.read(path) })
	}
	if err == nil {
		m.Digest, err = disk.Digest(path)
	}
	if err != nil {
		m.Problem, m.Nearest = strings.TrimPrefix(err.Error(), path+": "), instead(err)
		if len(m.Problem) > maxProblem { // it may repeat what the files say
			m.Problem = strings.ToValidUTF8(m.Problem[:maxProblem], "") + "…"
		}
		if time.Since(m.Installed) < arrivalTime && notWhole(err) {
			m.Arriving = true
			m.Problem = "it is being copied, or is not whole: " + m.Problem
		}
	}
	return m
}

// maxProblem bounds what is said of a model that cannot be used, in bytes.
const maxProblem = 1 << 10

// instead says what would run in the place of a model that does not.
func instead(err error) string {
	var unknown *model.UnknownFamilyError
	if errors.As(err, &unknown) {
		return "a model of another family, the nearest by name being " + nearest(unknown.Architecture, model.Families())[0]
	}
	switch text := err.Error(); {
	case strings.Contains(text, "which cannot be read; these can"):
		return "the same model with weights in Q8_0, Q6_K or Q4_K"
	case strings.Contains(text, "weights quantised by"):
		return "the folder as its author published it, or a GGUF file of it"
	case strings.Contains(text, "big-endian"):
		return "the same model as a little-endian file"
	case strings.Contains(text, "dense layers"), strings.Contains(text, "tokenizer"):
		return "the same model in its other layout: a GGUF file for a folder, or the folder for a file"
	}
	return ""
}

// Check goes further than Read: it builds the network and the tokenizer, without a look at the weights themselves.
func Check(path string) error {
	return weights.Guarded(func() (err error) {
		if err := new(Model).read(path); err != nil {
			return err
		}
		c, err := disk.Open(path)
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, c.Close()) }()
		if _, err := model.Load(c); err != nil {
			return err
		}
		definition, err := c.Tokenizer()
		if err != nil {
			return err
		}
		_, err = tokenizer.New(definition)
		return err
	})
}

// notWhole reports whether a model may be right when more of it has come.
func notWhole(err error) bool {
	return errors.Is(err, weights.ErrCut)
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func (m *Model) read(path string) error {
	c, err := disk.Open(path)
	if err != nil {
		return err
	}
	err = m.Describe(c)
	if err == nil && c.Layout == "GGUF" {
		err = errors.Join(readBeside(path, &m.Defaults), m.look(path, c.Hyper.Width))
	}
	return errors.Join(err, c.Close())
}

// Describe takes the facts from a checkpoint, of which only the header need be there.
func (m *Model) Describe(c *weights.Checkpoint) error {
	if err := c.Bound(); err != nil {
		return err
	}
	m.Layout, m.Title, m.Architecture, m.Description, m.License, m.Tokenizer = c.Layout, c.Name, c.Architecture, c.Description, c.License, c.TokenizerKind
	m.Parameters = c.Parameters()
	for _, s := range c.Shares() {
		m.Shares = append(m.Shares, Share{s.Type.String(), s.Bytes})
	}
	if len(m.Shares) > 0 {
		m.Weights = m.Shares[0].Type
	}
	m.Defaults = c.Generation.Settings
	if c.Layout == "GGUF" && c.Architecture == disk.ProjectorArchitecture {
		return fmt.Errorf("it is a projector, by which a model that is %d wide takes pictures; put it into the folder of that model", disk.ProjectorWidth(c))
	}
	spec, err := model.Describe(c)
	if err != nil {
		return err
	}
	m.ContextLength, m.Vocabulary = spec.Context, spec.Vocab
	m.TokenBytes = tokenBytes(c, &spec)
	if c.TokenizerFault != nil {
		return c.TokenizerFault
	}
	if spec.Trained < spec.Context {
		m.TrainedContext = spec.Trained
	}
	if spec.Embeds() {
		if spec.Head != model.NoHead {
			m.Use = Rerank
			return nil
		}
		m.Use, m.Dimensions, m.Nested = Embedding, spec.Dim, c.Nested
		for _, t := range c.Tensors {
			if strings.HasPrefix(t.Name, safetensors.DensePrefix) && len(t.Shape) == 2 {
				m.Dimensions = t.Shape[0] // they are in their order
			}
		}
		for purpose := range c.Purposes {
			m.Purposes = append(m.Purposes, purpose)
		}
		slices.Sort(m.Purposes)
		return nil
	}
	m.ContextBytes, m.StateBytes, m.Attention = kv.Bytes(spec.KVShape(), kv.F16, spec.Context), 4*int64(spec.KVShape().State), spec.Said()
	m.Use = Completion
	if c.ChatTemplate != "" {
		m.Use = Chat
		abilities, err := prompt.Probe(c.ChatTemplate, c.Begin, c.End)
		if err != nil {
			return fmt.Errorf("its chat template: %w", err)
		}
		m.Template = &abilities
		if c.Layout != "GGUF" {
			m.see(c, spec.Dim, spec.Deep)
		}
	}
	return nil
}

// look finds the tower of a model in a file beside it.
func (m *Model) look(path string, width int) error {
	if m.Use != Chat {
		return nil
	}
	file, err := disk.Projector(path)
	if two := (*disk.TwoProjectorsError)(nil); errors.As(err, &two) {
		m.Pictures = &Pictures{Problem: err.Error()}
		return nil
	}
	if err != nil || file == "" {
		return err
	}
	c, err := disk.Open(file)
	if err != nil {
		return err
	}
	m.see(c, width, -1)
	if m.Pictures != nil {
		m.Pictures.File = file
	}
	return c.Close()
}

// see takes the facts of a tower from the checkpoint that it is in. deep is how many layers of the text model take rows of it; −1 if that is not to be compared.
func (m *Model) see(c *weights.Checkpoint, width, deep int) {
	t, err := model.DescribeTower(c, width)
	if errors.Is(err, model.ErrNoTower) {
		return
	}
	m.Pictures = &Pictures{}
	if err == nil && deep >= 0 && len(t.Deep) != deep {
		err = fmt.Errorf("its tower makes rows for %d layers, and the model takes them in %d", len(t.Deep), deep)
	}
	if err != nil {
		m.Pictures.Problem = err.Error()
		return
	}
	m.Pictures.Kind = t.Kind
	if least, most := t.Rule.Tokens(); least == most {
		m.Pictures.Tokens = least
	} else {
		m.Pictures.Least, m.Pictures.Most = least, most
	}
}

// tokenBytes is how many bytes of weights are read for each token: not the embedding, of which one row is, and of experts
// only those that are used.
func tokenBytes(c *weights.Checkpoint, s *model.Spec) int64 {
	var sum int64
	for _, t := range c.Tensors {
		bytes, err := t.Type.Size(t.Shape)
		switch {
		case err != nil:
			continue
		case (strings.HasPrefix(t.Name, "token_embd.") || strings.HasSuffix(t.Name, "embed_tokens.weight")) && !s.Tied:
			continue
		case strings.Contains(t.Name, "exps") || strings.Contains(t.Name, ".experts."):
			for i := range s.Layers {
				if e := &s.Layers[i].FeedForward.Experts; e.Count > 0 {
					bytes = bytes * int64(e.Used) / int64(e.Count)
					break
				}
			}
		}
		sum += bytes
	}
	return sum
}

// readBeside reads generation_config.json in the folder of a GGUF file, if there is one.
func readBeside(path string, d *Defaults) error {
	raw, err := system.ReadFile(filepath.Join(filepath.Dir(path), "generation_config.json"), 1<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	var g weights.Generation
	if err := safetensors.ReadGeneration(&g, raw); err != nil {
		return fmt.Errorf("generation_config.json: %w", err)
	}
	*d = g.Settings
	return nil
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

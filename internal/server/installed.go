package server

import (
	"context"
	"iter"
	"net/http"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/library"
	"kindredgate/internal/machine"
	"kindredgate/internal/runner/native"
	"kindredgate/internal/suites"
)

// InstalledModel is a model with its state.
type InstalledModel struct {
	catalog.Model
	// Fingerprint is what answers tell of the weights, the template and the settings that they are made with.
	Fingerprint string `json:"fingerprint,omitempty"`
	Loaded      bool   `json:"loaded"`
	Loading     bool   `json:"loading,omitempty"`
	Kept        bool   `json:"kept,omitempty"`           // loaded whatever happens, until it is unloaded
	Using       int    `json:"using,omitempty"`          // requests that use it now
	Memory      int64  `json:"memory,omitempty"`         // bytes of its weights and contexts, if it is loaded
	Context     int64  `json:"context_memory,omitempty"` // of these, set aside for contexts
	Unread      int64  `json:"unread,omitempty"`         // bytes of its files that are still being read into memory
	// Unprepared is how many bytes are still to be written of its weights in the order of this processor.
	Unprepared int64 `json:"unprepared,omitempty"`
	// Rate is about how many tokens a second one answer gets here; 0 if that is not known.
	Rate float64 `json:"rate,omitempty"`
	// Ability is what it came to last in the suite that ships; nil if it was not asked.
	Ability *suites.Ability `json:"ability,omitempty"`
}

// ModelList is what GET /gate/models tells. Problem says what kept a folder from being read.
type ModelList struct {
	Models  []InstalledModel `json:"models"`
	Problem string           `json:"problem,omitempty"`
}

func (s *Server) withState(m catalog.Model) InstalledModel {
	status := s.Gate.Loader.Status(m.Path)
	fingerprint := ""
	if m.Usable() {
		fingerprint = s.Gate.Fingerprint(m, nil)
	}
	return InstalledModel{Model: m, Fingerprint: fingerprint, Loaded: status.State == native.Loaded, Loading: status.State == native.Loading,
		Kept: status.Kept, Using: status.Leases, Memory: status.Bytes, Context: status.Context, Unread: status.Unread, Unprepared: status.Unprepared}
}

func (s *Server) models() (list ModelList) {
	models, err := s.Gate.Catalog.Models()
	if err != nil {
		list.Problem = err.Error()
	}
	list.Models = []InstalledModel{}
	for _, m := range models {
		list.Models = append(list.Models, s.withState(m))
	}
	return list
}

func (s *Server) installedModels(c *gin.Context) (any, error) {
	list := s.models()
	known, err := s.Suites.Abilities(c.Request.Context())
	if err != nil {
		return nil, err
	}
	for i := range list.Models {
		list.Models[i].able(known)
	}
	return list, nil
}

// able adds what the model came to in the suite that ships.
func (m *InstalledModel) able(known map[string]suites.Ability) {
	if a, ok := known[m.ID]; ok {
		m.Ability = &a
	}
}

func (s *Server) installedModel(c *gin.Context) (any, error) {
	m, err := s.Gate.Installed(c.Param("id"))
	if err != nil {
		return nil, err
	}
	out := s.withState(m)
	known, err := s.Suites.Abilities(c.Request.Context())
	if err != nil {
		return nil, err
	}
	out.able(known)
	if m.Problem == "" && m.Use.Writes() {
		out.Rate = machine.Rate(m.Weights, m.TokenBytes)
	}
	return out, nil
}

// loadModel loads a model; with "keep" it stays loaded.
func (s *Server) loadModel(c *gin.Context) (any, error) {
	keep := false
	if c.Request.ContentLength != 0 {
		o, err := object(c)
		if err != nil {
			return nil, err
		}
		keep = o.Bool("keep")
		if err := onlyKnown(o); err != nil {
			return nil, err
		}
	}
	m, err := s.Gate.LoadModel(c.Request.Context(), c.Param("id"), keep)
	if err != nil {
		return nil, err
	}
	return s.withState(m), nil
}

func (s *Server) unloadModel(c *gin.Context) (any, error) {
	m, _, err := s.Gate.UnloadModel(c.Param("id"))
	if err != nil {
		return nil, err
	}
	return s.withState(m), nil
}

// Addition is an event of adding a model: how far it has come or, at last, the model.
type Addition struct {
	*library.Progress
	Model *InstalledModel `json:"model,omitempty"`
}

// addModel brings a model into the models folder and tells how far it has come, as server-sent events.
func (s *Server) addModel(c *gin.Context) (any, error) {
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	var a library.Addition
	var given bool
	if a.Source, given = o.String("source"); !given || a.Source == "" {
		o.Fail("source", "source is missing: the file, folder or address of a model")
	}
	a.Name, _ = o.String("name")
	a.SHA256, _ = o.String("sha256")
	a.Projector, _ = o.String("projector")
	a.Copy = o.Bool("copy")
	if err := onlyKnown(o); err != nil {
		return nil, err
	}
	return nil, stream(s, c, s.adding(c.Request.Context(), a), &exchange.Started{}, events(func(e Addition) string { return data(e) }, "[DONE]"))
}

// adding is the events of adding a model. Leaving the loop ends it.
func (s *Server) adding(ctx context.Context, a library.Addition) iter.Seq2[Addition, error] {
	return func(yield func(Addition, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		gone := false
		m, err := s.Gate.AddModel(ctx, a, func(p library.Progress) {
			if !gone && !yield(Addition{Progress: &p}, nil) {
				gone = true
				cancel()
			}
		})
		switch {
		case gone:
		case err != nil:
			yield(Addition{}, err)
		default:
			s.Log.Info("model added", "model", m.ID, "path", m.Path)
			with := s.withState(m)
			yield(Addition{Model: &with}, nil)
		}
	}
}

// Removed is what removing a model did.
type Removed struct {
	Model string `json:"model"`
	Path  string `json:"path"`
	library.Removal
	// Presets and Names are those that the model serves, which nothing does any more then, unless they have other targets.
	Presets []string `json:"presets,omitempty"`
	Names   []string `json:"names,omitempty"`
}

// removeModel takes a model out of the models folder. With ?try=true it only tells what that would do.
func (s *Server) removeModel(c *gin.Context) (any, error) {
	try := c.Query("try") == "true"
	m, r, err := s.Gate.RemoveModel(c.Param("id"), try)
	if err != nil {
		return nil, err
	}
	presets, names, err := s.Gate.Dependents(c.Request.Context(), m.ID)
	if err != nil {
		return nil, err
	}
	if !try {
		s.Log.Info("model removed", "model", m.ID, "path", m.Path, "deleted_bytes", r.Bytes)
	}
	return Removed{m.ID, m.Path, r, presets, names}, nil
}

// ready says whether the gate answers or, with a model, whether that one is loaded.
func (s *Server) ready(c *gin.Context) (any, error) {
	if s.ending.Err() != nil {
		return nil, exchange.Errorf(exchange.Unavailable, "shutting_down", "the gate is shutting down")
	}
	name := c.Query("model")
	if name == "" {
		c.String(http.StatusOK, "ready\n")
		return nil, nil
	}
	m, ok := s.Gate.Catalog.Known(name)
	if !ok {
		// A stranger is told nothing of the models that there are.
		return nil, exchange.Errorf(exchange.Unavailable, "model_not_loaded", "model %q is not loaded", name)
	}
	switch s.Gate.Loader.Status(m.Path).State {
	case native.Loaded:
		c.String(http.StatusOK, "ready\n")
	case native.Loading:
		return nil, exchange.Errorf(exchange.Unavailable, "model_loading", "model %q is being loaded", name)
	default:
		return nil, exchange.Errorf(exchange.Unavailable, "model_not_loaded", "model %q is not loaded", name)
	}
	return nil, nil
}

package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fatih/color"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"kindredgate/internal/catalog"
	"kindredgate/internal/library"
	"kindredgate/internal/server"
)

func (t *terminal) models() *cobra.Command {
	return group("models", "Add, inspect, load and remove models",
		t.modelsList(), t.modelsShow(), t.modelsLook(), t.modelsAdd(), t.modelsRemove(), t.modelsLoad(), t.modelsUnload(), t.modelsConvert())
}

func (t *terminal) modelsList() *cobra.Command {
	return listing(t, "List the installed models", func(ctx context.Context, gate *client) ([]server.InstalledModel, error) {
		var list server.ModelList
		err := gate.call(ctx, http.MethodGet, "/gate/models", nil, &list)
		if list.Problem != "" {
			fmt.Fprintf(t.err, "kindred: some models could not be looked for: %s\n", shown(list.Problem))
		}
		return list.Models, err
	}, func(list []server.InstalledModel) (rows [][]string, empty string) {
		if len(list) == 0 {
			return nil, "No model is installed yet: \"kindred models add\" brings one."
		}
		rows = [][]string{{"MODEL", "FOR", "FAMILY", "PARAMETERS", "WEIGHTS", "SIZE", "CONTEXT", "STATE"}}
		for _, m := range list {
			rows = append(rows, []string{m.ID, string(m.Use), m.Architecture, count(m.Parameters), m.Weights, size(m.Size), orNothing(m.ContextLength), modelState(m)})
		}
		return rows, ""
	})
}

func orNothing(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func modelState(m server.InstalledModel) string {
	switch {
	case m.Arriving:
		return "arriving"
	case m.Problem != "":
		return "unusable: " + m.Problem
	case m.Loading:
		return "loading"
	case m.Loaded && m.Unread > 0:
		return fmt.Sprintf("loaded, %.0f %% of it in memory", 100-100*float64(m.Unread)/float64(max(m.Size, m.Unread)))
	case m.Loaded && m.Unprepared > 0:
		return fmt.Sprintf("loaded, %.0f %% optimised for this processor", 100-100*float64(m.Unprepared)/float64(max(m.Size, m.Unprepared)))
	case m.Loaded && m.Kept:
		return "loaded, kept"
	case m.Loaded:
		return "loaded"
	}
	return "ready"
}

func (t *terminal) modelsShow() *cobra.Command {
	return looking(t, "show MODEL", "Show the facts of a model", exactly("a model"), func(ctx context.Context, gate *client, args []string) (m server.InstalledModel, err error) {
		err = gate.call(ctx, http.MethodGet, modelPath(args[0]), nil, &m)
		return m, err
	}, t.printModel)
}

func modelPath(name string) string { return "/gate/models/" + url.PathEscape(name) }

func (t *terminal) printModel(m server.InstalledModel) error {
	strong := paint(t.out, color.Bold)
	fmt.Fprintf(t.out, "%s\n", strong(m.ID))
	if m.Description != "" {
		fmt.Fprintln(t.out, m.Description)
	}
	fmt.Fprintln(t.out)
	var rows [][]string
	add := func(name, value string) {
		if value != "" && value != "0" {
			rows = append(rows, []string{"  " + name, value})
		}
	}
	add("state", modelState(m))
	add("instead", m.Nearest)
	add("for", string(m.Use))
	if m.Title != m.ID {
		add("title", m.Title)
	}
	add("family", m.Architecture)
	add("parameters", count(m.Parameters))
	var shares []string
	for _, s := range m.Shares {
		shares = append(shares, fmt.Sprintf("%s %s", s.Type, size(s.Bytes)))
	}
	add("weights", strings.Join(shares, ", "))
	add("fingerprint", m.Fingerprint)
	add("layout", fmt.Sprintf("%s, %s", m.Layout, size(m.Size)))
	if m.ContextLength > 0 {
		text := fmt.Sprintf("%d tokens", m.ContextLength)
		if m.TrainedContext > 0 {
			text += fmt.Sprintf(", stretched from %d", m.TrainedContext)
		}
		if m.ContextBytes > 0 {
			text += fmt.Sprintf("; a whole one takes %s", size(m.ContextBytes))
		}
		if m.StateBytes > 0 {
			text += fmt.Sprintf(", %s of it whatever its length", size(m.StateBytes))
		}
		add("context", text)
		for i, said := range m.Attention {
			add([]string{"attention", ""}[min(i, 1)], said)
		}
	}
	add("pictures", pictures(m.Pictures))
	if m.Rate > 0 {
		add("here", rate(m.Rate)+" tokens a second for one answer")
	}
	if m.Loaded {
		add("memory", fmt.Sprintf("%s, of which up to %s for contexts", size(m.Memory), size(m.Context)))
	}
	if m.Dimensions > 0 {
		text := fmt.Sprintf("%d numbers", m.Dimensions)
		if len(m.Nested) > 0 {
			text += fmt.Sprintf(", or the first %s", strings.ReplaceAll(strings.Trim(fmt.Sprint(m.Nested), "[]"), " ", ", "))
		}
		add("vectors", text)
	}
	add("purposes", strings.Join(m.Purposes, ", "))
	if m.Vocabulary > 0 {
		add("vocabulary", strings.TrimSuffix(fmt.Sprintf("%d tokens (%s)", m.Vocabulary, m.Tokenizer), " ()"))
	}
	add("recommended", sampling(m.Defaults))
	if a := m.Template; a != nil {
		add("instructions", instructionsPlace(a))
		add("tools", toolAbilities(a))
		add("reasoning", reasoningAbility(a))
	}
	add("licence", m.License)
	if a := m.Ability; a != nil {
		said := fmt.Sprintf("%.1f of %d cases (%s)", a.Passed, a.Cases, ago(a.At))
		if len(a.Missing) > 0 {
			said += "; not always: " + strings.Join(a.Missing, ", ")
		}
		add("abilities", said)
	} else if m.Use == catalog.Chat {
		add("abilities", fmt.Sprintf("not probed yet: \"kindred suite run --model %s\"", m.ID))
	}
	add("lies at", m.Path)
	return table(t.out, rows...)
}

// pictures says how a model takes pictures.
func pictures(p *catalog.Pictures) string {
	switch {
	case p == nil:
		return ""
	case p.Problem != "":
		return "no: " + p.Problem
	}
	text := fmt.Sprintf("%d tokens each", p.Tokens)
	if p.Tokens == 0 {
		text = fmt.Sprintf("%d to %d tokens each, by their size", p.Least, p.Most)
	}
	if p.File != "" {
		text += ", by " + filepath.Base(p.File)
	}
	return text
}

func (t *terminal) modelsAdd() *cobra.Command {
	var flags clientFlags
	var a library.Addition
	cmd := &cobra.Command{
		Use:   "add FILE|FOLDER|ADDRESS",
		Short: "Check a model and add it to the models folder",
		Long: "Check a model and add it to the models folder. A file or folder of this machine is linked to, or copied with --copy;\n" +
			"one at an address is fetched. If that breaks off, the same command goes on from there.",
		Example: "  kindred models add ~/downloads/harbour-4m.gguf\n  kindred models add https://files.example/harbour-4m.gguf --sha256 3a7b…",
		Args:    exactly("a file, a folder or an address"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) (err error) {
			a.Source = args[0]
			if !a.Remote() {
				if a.Source, err = filepath.Abs(a.Source); err != nil {
					return err
				}
				if a.Projector != "" && (library.Addition{Source: a.Projector}).Remote() == a.Remote() {
					if a.Projector, err = filepath.Abs(a.Projector); err != nil {
						return err
					}
				}
			}
			m, err := t.add(c, gate, a)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(t.out, "%s is installed: %s\n", paint(t.out, color.Bold)(m.ID), summary(m.Model))
			return err
		}),
	}
	flags.add(cmd)
	cmd.Flags().StringVar(&a.Name, "name", "", "name that the model is to have (default that of its file)")
	cmd.Flags().StringVar(&a.SHA256, "sha256", "", "checksum that the file must have")
	cmd.Flags().StringVar(&a.Projector, "projector", "", "file or address of the projector, by which a GGUF file takes pictures (default the one beside a file)")
	cmd.Flags().BoolVar(&a.Copy, "copy", false, "copy files of this machine rather than link to them")
	return cmd
}

// summary says in a line what a model is.
func summary(m catalog.Model) string {
	list := []string{string(m.Use), m.Architecture, count(m.Parameters) + " parameters", m.Weights, size(m.Size), fmt.Sprintf("%d tokens of context", m.ContextLength)}
	return strings.Join(slices.DeleteFunc(list, func(s string) bool { return s == "" }), ", ")
}

// add has the gate add a model, and shows how far it has come.
func (t *terminal) add(c *cobra.Command, gate *client, a library.Addition) (*server.InstalledModel, error) {
	body := map[string]any{"source": a.Source}
	for name, v := range map[string]string{"name": a.Name, "sha256": a.SHA256, "projector": a.Projector} {
		if v != "" {
			body[name] = v
		}
	}
	if a.Copy {
		body["copy"] = true
	}
	resp, err := gate.send(c.Context(), http.MethodPost, "/gate/models", body)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	show := t.progress()
	defer show(nil)
	for raw, err := range events(resp.Body, nil) {
		if err != nil {
			return nil, err
		}
		var e server.Addition
		if err := json.Unmarshal(raw, &e); err != nil {
			return nil, fmt.Errorf("read the gate's answer: %w", err)
		}
		if e.Model != nil {
			return e.Model, nil
		}
		show(e.Progress)
	}
	return nil, errors.New("the gate's answer ended without a model")
}

// progress gives a function that shows how far something has come: on a terminal as a bar with rate and time left, else
// nothing. Told of nil, it takes the bar away.
func (t *terminal) progress() func(*library.Progress) {
	if !isTerminal(t.err) {
		return func(*library.Progress) {}
	}
	var bar *progressbar.ProgressBar
	file := ""
	return func(p *library.Progress) {
		if bar != nil && (p == nil || p.File != file) {
			_ = bar.Clear() // of the terminal's last line, which nothing depends on
			bar = nil
		}
		if p == nil {
			return
		}
		if file = p.File; bar == nil {
			total := p.Total
			if total == 0 {
				total = -1
			}
			bar = progressbar.NewOptions64(total, progressbar.OptionSetWriter(t.err), progressbar.OptionSetDescription(p.Doing+" "+p.File), progressbar.OptionShowBytes(true),
				progressbar.OptionSetWidth(28), progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionSetPredictTime(true), progressbar.OptionShowTotalBytes(true),
				progressbar.OptionSetTheme(progressbar.Theme{Saucer: "━", SaucerPadding: "┈", BarStart: "", BarEnd: ""}))
		}
		_ = bar.Set64(p.Done)
	}
}

// dependents names what the model serves, which nothing does any more then.
func dependents(r server.Removed) string {
	var list []string
	for what, names := range map[string][]string{"presets": r.Presets, "names": r.Names} {
		if len(names) > 0 {
			list = append(list, what+" "+strings.Join(names, ", "))
		}
	}
	if len(list) == 0 {
		return ""
	}
	slices.Sort(list)
	return " It serves the " + strings.Join(list, " and the ") + "."
}

func (t *terminal) modelsRemove() *cobra.Command {
	var flags clientFlags
	var yes bool
	cmd := &cobra.Command{
		Use:     "remove MODEL",
		Aliases: otherwiseRemove,
		Short:   "Remove a model from the models folder; its files there are deleted",
		Args:    exactly("a model"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			var r server.Removed
			if err := gate.call(c.Context(), http.MethodDelete, modelPath(args[0])+"?try=true", nil, &r); err != nil {
				return err
			}
			if !r.Linked && !yes {
				question := fmt.Sprintf("This deletes %s, %s, at %s.%s Continue? [y/N] ", files(r.Files), size(r.Bytes), r.Path, dependents(r))
				ok, err := t.confirm(question)
				if err != nil || !ok {
					return err
				}
			}
			if err := gate.call(c.Context(), http.MethodDelete, modelPath(args[0]), nil, &r); err != nil {
				return err
			}
			if r.Linked {
				_, err := fmt.Fprintf(t.out, "%s is removed; its files lie where they were.%s\n", r.Model, dependents(r))
				return err
			}
			_, err := fmt.Fprintf(t.out, "%s is removed: %s with %s deleted.%s\n", r.Model, files(r.Files), size(r.Bytes), dependents(r))
			return err
		}),
	}
	flags.add(cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "delete files without asking")
	return cmd
}

// confirm asks a question that is answered with y. Where nobody can answer, it is an error that names the option.
func (t *terminal) confirm(question string) (bool, error) {
	answer, err := t.ask1(question)
	if err != nil {
		return false, err
	}
	if isYes(answer) {
		return true, nil
	}
	_, err = fmt.Fprintln(t.out, "Nothing was changed.")
	return false, err
}

func isYes(answer string) bool {
	return strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes")
}

// ask1 asks for one line.
func (t *terminal) ask1(question string) (string, error) {
	if !isTerminal(t.in) {
		return "", errors.New("nobody is there to be asked; say --yes to go on without")
	}
	fmt.Fprint(t.out, question)
	var line []byte
	one := make([]byte, 1)
	for {
		n, err := t.in.Read(one)
		if n == 0 || one[0] == '\n' || err != nil {
			return strings.TrimSpace(string(line)), nil
		}
		line = append(line, one[0])
	}
}

func (t *terminal) modelsLoad() *cobra.Command {
	var flags clientFlags
	var keep bool
	cmd := &cobra.Command{
		Use:   "load MODEL",
		Short: "Load a model, so that the first request need not wait for it",
		Args:  exactly("a model"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			var m server.InstalledModel
			begun := time.Now()
			if err := gate.call(c.Context(), http.MethodPost, modelPath(args[0])+"/load", map[string]any{"keep": keep}, &m); err != nil {
				return err
			}
			loaded := time.Since(begun)
			if err := t.awaitWeights(c, gate, &m); err != nil {
				return err
			}
			kept := ""
			if m.Kept {
				kept = ", and stays so until it is unloaded"
			}
			_, err := fmt.Fprintf(t.out, "%s is loaded after %s and wholly ready after %s%s: up to %s, of which up to %s for contexts.\n",
				m.ID, loaded.Round(time.Millisecond), time.Since(begun).Round(time.Millisecond), kept, size(m.Memory), size(m.Context))
			return err
		}),
	}
	flags.add(cmd)
	cmd.Flags().BoolVar(&keep, "keep", false, "keep it loaded, however long nobody uses it")
	return cmd
}

// awaitWeights waits until a loaded model's files are in memory and its weights prepared, and shows how far that is.
func (t *terminal) awaitWeights(c *cobra.Command, gate *client, m *server.InstalledModel) error {
	show := t.progress()
	defer show(nil)
	for m.Loaded && m.Unread+m.Unprepared > 0 {
		p := &library.Progress{Doing: "reading", File: m.ID, Done: m.Size - m.Unread, Total: m.Size}
		if m.Unread == 0 {
			total := max(m.Size, m.Unprepared)
			p.Doing, p.Done, p.Total = "preparing", total-m.Unprepared, total
		}
		show(p)
		select {
		case <-time.After(200 * time.Millisecond):
		case <-c.Context().Done():
			return c.Context().Err()
		}
		var now server.InstalledModel // a new one: fields that are left out would stay
		if err := gate.call(c.Context(), http.MethodGet, modelPath(m.ID), nil, &now); err != nil {
			return err
		}
		*m = now
	}
	return nil
}

func (t *terminal) modelsUnload() *cobra.Command {
	var flags clientFlags
	cmd := &cobra.Command{
		Use:   "unload MODEL",
		Short: "Unload a model, which frees its memory; answers in progress finish",
		Args:  exactly("a model"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			var m server.InstalledModel
			if err := gate.call(c.Context(), http.MethodPost, modelPath(args[0])+"/unload", nil, &m); err != nil {
				return err
			}
			_, err := fmt.Fprintf(t.out, "%s is unloaded.\n", m.ID)
			return err
		}),
	}
	flags.add(cmd)
	return cmd
}

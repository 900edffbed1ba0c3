package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/fatih/color"
	"github.com/spf13/cobra"

	"kindredgate/internal/catalog"
	"kindredgate/internal/server"
)

func (t *terminal) presets() *cobra.Command {
	return group("presets", "Give a model instructions and settings under a name of its own",
		t.presetsAdd(), t.presetsList(), t.presetsShow(), t.presetsChange(), t.presetsRemove())
}

// presetFlags are what a preset is made of, as options.
type presetFlags struct {
	model, instructions, template, examples string
	temperature, topP                       float64
	topK                                    int
	fixed, dropOldest                       bool
	reasoning                               string
	longest, context                        int
	tools                                   []string
}

func (f *presetFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.model, "model", "", "installed model that it uses")
	flags.StringVar(&f.instructions, "instructions", "", "what the model is told ahead of a request's own")
	flags.Float64Var(&f.temperature, "temperature", 0, "temperature where a request names none")
	flags.Float64Var(&f.topP, "top-p", 0, "top-p where a request names none")
	flags.IntVar(&f.topK, "top-k", 0, "top-k where a request names none")
	flags.BoolVar(&f.fixed, "fixed", false, "let these settings stand where a request names its own, too")
	flags.StringVar(&f.reasoning, "reasoning", "", "whether the model reasons first: on, off, or empty to leave it to the request")
	flags.IntVar(&f.longest, "longest-answer", 0, "tokens that an answer may have (default as many as the context holds)")
	flags.IntVar(&f.context, "context", 0, "tokens of the model's context to use (default all)")
	flags.BoolVar(&f.dropOldest, "drop-oldest", false, "leave out the oldest turns of a conversation that is longer than the context")
	flags.StringSliceVar(&f.tools, "tools", nil, "tool servers (SERVER), or tools (SERVER/TOOL), that the gate runs for the model; \"\" for none")
	flags.StringVar(&f.examples, "examples", "", "file with example turns: a JSON list of {\"role\", \"content\"}, and perhaps \"pictures\" as data URLs")
	flags.StringVar(&f.template, "template", "", "file with a chat template to use in the place of the model's")
}

// apply puts the options that were given into a preset.
func (f *presetFlags) apply(cmd *cobra.Command, p *catalog.Preset) error {
	given := cmd.Flags().Changed
	if given("model") {
		p.Model = f.model
	}
	if given("instructions") {
		p.Instructions = f.instructions
	}
	if given("temperature") {
		p.Temperature = &f.temperature
	}
	if given("top-p") {
		p.TopP = &f.topP
	}
	if given("top-k") {
		p.TopK = &f.topK
	}
	if given("fixed") {
		p.Fixed = f.fixed
	}
	if given("drop-oldest") {
		p.DropOldest = f.dropOldest
	}
	if given("longest-answer") {
		p.LongestAnswer = f.longest
	}
	if given("context") {
		p.Context = f.context
	}
	if given("reasoning") {
		on, off := true, false
		reasoning, ok := map[string]*bool{"on": &on, "off": &off, "": nil}[f.reasoning]
		if !ok {
			return usageError{fmt.Errorf("--reasoning is %q; it must be on, off or empty", f.reasoning)}
		}
		p.Reasoning = reasoning
	}
	if given("tools") {
		p.Tools = f.tools
	}
	if given("examples") {
		p.Examples = nil
		if f.examples != "" {
			raw, err := os.ReadFile(f.examples)
			if err != nil {
				return err
			}
			if err := json.Unmarshal(raw, &p.Examples); err != nil {
				return fmt.Errorf("%s is not a JSON list of turns: %w", f.examples, err)
			}
		}
	}
	if given("template") {
		p.Template = ""
		if f.template != "" {
			raw, err := os.ReadFile(f.template)
			if err != nil {
				return err
			}
			p.Template = string(raw)
		}
	}
	return nil
}

func (t *terminal) presetsAdd() *cobra.Command {
	var flags clientFlags
	var preset presetFlags
	cmd := &cobra.Command{
		Use:     "add NAME --model MODEL",
		Short:   "Add a preset; applications ask for it as for a model",
		Example: `  kindred presets add harbour-master --model harbour-4m --instructions "You are a cheerful harbour master."`,
		Args:    exactly("a name"),
		RunE: func(c *cobra.Command, args []string) error {
			p := catalog.Preset{Name: args[0]}
			if err := preset.apply(c, &p); err != nil {
				return err
			}
			if p.Model == "" {
				return usageError{errors.New("a preset needs a model: --model harbour-4m")}
			}
			return t.sendPreset(c, flags, http.MethodPost, "/gate/presets", p, "added")
		},
	}
	flags.add(cmd)
	preset.add(cmd)
	return cmd
}

func presetPath(name string) string { return "/gate/presets/" + url.PathEscape(name) }

func (t *terminal) sendPreset(c *cobra.Command, flags clientFlags, method, path string, p catalog.Preset, done string) error {
	gate, err := flags.open(c.Context())
	if err != nil {
		return err
	}
	if err := gate.call(c.Context(), method, path, p, &p); err != nil {
		return err
	}
	_, err = fmt.Fprintf(t.out, "%s is %s: applications ask for it as model %q.\n", p.Name, done, p.Name)
	return err
}

func (t *terminal) presetsChange() *cobra.Command {
	var flags clientFlags
	var preset presetFlags
	cmd := &cobra.Command{
		Use:   "change NAME",
		Short: "Change what is given, and leave the rest of a preset as it is",
		Args:  exactly("a name"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			gate.exact = true // what stays as it is goes back as it came
			var p catalog.Preset
			if err := gate.call(c.Context(), http.MethodGet, presetPath(args[0]), nil, &p); err != nil {
				return err
			}
			if err := preset.apply(c, &p); err != nil {
				return err
			}
			return t.sendPreset(c, flags, http.MethodPut, presetPath(args[0]), p, "changed")
		}),
	}
	flags.add(cmd)
	preset.add(cmd)
	return cmd
}

func (t *terminal) presetsList() *cobra.Command {
	return listing(t, "List the presets", func(ctx context.Context, gate *client) ([]catalog.Preset, error) {
		var list server.PresetList
		err := gate.call(ctx, http.MethodGet, "/gate/presets", nil, &list)
		return list.Presets, err
	}, func(list []catalog.Preset) (rows [][]string, empty string) {
		if len(list) == 0 {
			return nil, "There is no preset yet: \"kindred presets add\" makes one."
		}
		rows = [][]string{{"PRESET", "MODEL", "INSTRUCTIONS"}}
		for _, p := range list {
			rows = append(rows, []string{p.Name, p.Model, shortened(p.Instructions, 60)})
		}
		return rows, ""
	})
}

func shortened(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

func (t *terminal) presetsShow() *cobra.Command {
	return looking(t, "show NAME", "Show a preset", exactly("a name"), func(ctx context.Context, gate *client, args []string) (p catalog.Preset, err error) {
		err = gate.call(ctx, http.MethodGet, presetPath(args[0]), nil, &p)
		return p, err
	}, t.printPreset)
}

func (t *terminal) printPreset(p catalog.Preset) error {
	fmt.Fprintf(t.out, "%s\n\n", paint(t.out, color.Bold)(p.Name))
	rows := [][]string{{"  model", p.Model}}
	add := func(name, value string) {
		if value != "" {
			rows = append(rows, []string{"  " + name, value})
		}
	}
	add("instructions", p.Instructions)
	settings := sampling(p.Defaults)
	if settings != "" && p.Fixed {
		settings += "; whatever a request says"
	}
	add("sampling", settings)
	if p.Reasoning != nil {
		add("reasoning", map[bool]string{true: "always", false: "never"}[*p.Reasoning])
	}
	if p.LongestAnswer > 0 {
		add("longest answer", fmt.Sprintf("%d tokens", p.LongestAnswer))
	}
	if p.Context > 0 {
		add("context", fmt.Sprintf("%d tokens", p.Context))
	}
	if p.DropOldest {
		add("too long", "the oldest turns are left out")
	}
	add("tools", strings.Join(p.Tools, ", "))
	for _, e := range p.Examples {
		add("example", string(e.Role)+": "+e.Content)
	}
	if p.Template != "" {
		add("template", fmt.Sprintf("its own, %d characters", len(p.Template)))
	}
	return table(t.out, rows...)
}

func (t *terminal) presetsRemove() *cobra.Command {
	var flags clientFlags
	cmd := &cobra.Command{
		Use:     "remove NAME",
		Aliases: otherwiseRemove,
		Short:   "Remove a preset; its model stays",
		Args:    exactly("a name"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			resp, err := gate.send(c.Context(), http.MethodDelete, presetPath(args[0]), nil)
			if err != nil {
				return err
			}
			resp.Body.Close()
			_, err = fmt.Fprintf(t.out, "%s is removed.\n", args[0])
			return err
		}),
	}
	flags.add(cmd)
	return cmd
}

package boot

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"kindredgate/internal/config"
	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/joined"
	"kindredgate/internal/runner/remote"
	"kindredgate/internal/system"
)

// others are the gate's other machines, as the configuration says. Those that cannot be used as they are set up are among them, with the
// reason; the error has the reasons of all, but of those that are as they were before.
func (app *App) others(before, cfg config.Config) (all map[string]remote.Settings, err error) {
	all = map[string]remote.Settings{}
	for _, name := range slices.Sorted(maps.Keys(cfg.Runners)) {
		s, problem := app.other(name, cfg.Runners[name])
		if problem != nil {
			s = remote.Settings{URL: cfg.Runners[name].URL, Unusable: strings.TrimPrefix(problem.Error(), "runners."+name+".")}
			if was, ok := app.machines.Machine(name); !ok || was.State().Why != s.Unusable || !reflect.DeepEqual(before.Runners[name], cfg.Runners[name]) {
				err = errors.Join(err, problem)
			}
		}
		all[name] = s
	}
	if app.joining != nil && app.joining.Hub != nil {
		for _, m := range app.joining.Hub.Machines() {
			if _, taken := all[m.Name()]; taken {
				err = errors.Join(err, fmt.Errorf("runners.%s: a machine that has joined has this name; choose another, or revoke that (\"kindred machines revoke\")", m.Name()))
				continue
			}
			all[m.Name()] = joined.Settings(m)
		}
	}
	return all, err
}

// other is how another machine is reached.
func (app *App) other(name string, r config.Runner) (s remote.Settings, err error) {
	key, err := r.Key(name)
	if err != nil {
		return s, err
	}
	s = remote.Settings{URL: r.URL, Key: key, Connect: r.Connect, FirstToken: r.FirstToken, Silence: r.Silence, Rest: r.Rest, Tries: r.Tries,
		LongestAnswer: int64(r.LongestAnswer), ImageAddresses: r.ImageAddresses, Models: r.Models, Pass: r.Pass, Fields: r.Fields}
	for _, f := range r.Fields {
		if !slices.Contains(exchange.Carryable, f) {
			return s, fmt.Errorf("runners.%s.fields has %q; these can be sent along: %s", name, f, strings.Join(exchange.Carryable, ", "))
		}
	}
	if r.Fields == nil {
		s.Fields = []string{"verbosity", "prediction"} // which are about the answer; others are about who asks, or what it costs
	}
	if r.Layout != nil {
		if s.Layout, err = app.layout(*r.Layout); err != nil {
			return s, fmt.Errorf("runners.%s.layout: %w", name, err)
		}
	}
	if f := r.Form; f != nil {
		s.Form = &remote.Form{Path: f.Path, Body: f.Body, Turn: f.Turn, Roles: f.Roles, Lines: f.Lines, Text: f.Text, Piece: f.Piece, Done: f.Done, DoneIs: f.DoneIs, PromptTokens: f.PromptTokens, AnswerTokens: f.AnswerTokens}
		if err := s.Form.Check(); err != nil {
			return s, fmt.Errorf("runners.%s.%w", name, err)
		}
	}
	return s, nil
}

// layout opens what prompts are laid out by, once, so that what is the same stays the same when the configuration is read anew.
func (app *App) layout(of config.RunnerLayout) (*remote.Layout, error) {
	m, err := app.installed.Find(of.Like)
	if err != nil {
		return nil, err
	}
	template := ""
	if of.Template != "" {
		path, err := config.Absolute(of.Template)
		if err != nil {
			return nil, err
		}
		raw, err := system.ReadFile(path, 1<<20)
		if err != nil {
			return nil, err
		}
		template = string(raw)
	}
	known := config.RunnerLayout{Like: m.Path + " " + m.Digest, Template: template}
	if l, ok := app.layouts[known]; ok {
		return l, nil
	}
	l, err := remote.OpenLayout(m.Path, template)
	if err != nil {
		return nil, err
	}
	if app.layouts == nil {
		app.layouts = map[config.RunnerLayout]*remote.Layout{}
	}
	app.layouts[known] = l
	return l, nil
}

package config

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"kindredgate/internal/system"
)

// Layer is where a value comes from.
type Layer string

// The layers. Each wins over those before it.
const (
	ByDefault     Layer = "default"
	ByFile        Layer = "file"
	ByEnvironment Layer = "environment"
	ByFlag        Layer = "flag"
)

// Setting is a value of the configuration with what is known of it.
type Setting struct {
	Name    string `json:"name"`            // dotted, such as models.idle_unload
	Value   string `json:"value"`           // in YAML, on one line; a text without its quotation marks
	Layer   Layer  `json:"layer"`           // where it comes from
	Where   string `json:"where,omitempty"` // there: file and line, variable, or flag
	Restart bool   `json:"restart"`         // whether a change holds from the next start on only
}

// Reading is a configuration as it was read.
type Reading struct {
	Config
	File     string // that was read, or would be if it were there
	Empty    bool   // whether there is nothing in it, or no file at all
	Settings []Setting
}

// Flag is a setting that was given on the command line.
type Flag struct {
	Name   string // of the setting
	Flag   string // such as --listen
	Values []string
}

// leaf is a place in a Config that has a value of its own.
type leaf struct {
	name, env string
	restart   bool
	value     reflect.Value
}

// maxFile bounds a configuration file, in bytes.
const maxFile = 4 << 20

// variable is what names a setting in the environment.
const variable = "KINDRED_"

// leaves lists the settings of a Config, or of a part of it, in their order.
func leaves(v reflect.Value, name string, restart bool) (list []leaf) {
	for i := range v.NumField() {
		f := v.Type().Field(i)
		path := strings.TrimPrefix(name+"."+f.Tag.Get("yaml"), ".")
		if f.Tag.Get("apply") == "declared" {
			continue
		}
		restart := restart || f.Tag.Get("apply") == "restart"
		if f.Type.Kind() == reflect.Struct {
			list = append(list, leaves(v.Field(i), path, restart)...)
			continue
		}
		env := f.Tag.Get("env")
		if env == "" {
			env = variable + strings.ToUpper(strings.ReplaceAll(path, ".", "_"))
		}
		list = append(list, leaf{path, env, restart, v.Field(i)})
	}
	return list
}

// Read reads all layers. path is the file's; if it is empty, the file is gate.yaml in the configuration folder, if there is one. The error
// says which layer cannot be read, or what does not go together.
func Read(path string, flags ...Flag) (Reading, error) {
	r := Reading{Config: Default(), File: path}
	if path == "" {
		folder, err := Absolute(folder("XDG_CONFIG_HOME", ".config"))
		if err != nil {
			return r, fmt.Errorf("configuration: %w", err)
		}
		r.File = filepath.Join(folder, "gate.yaml")
	}
	var err error
	if r.File, err = filepath.Abs(r.File); err != nil {
		return r, fmt.Errorf("configuration: %w", err)
	}
	raw, err := system.ReadGiven(r.File, maxFile)
	if err != nil && (path != "" || !errors.Is(err, fs.ErrNotExist)) {
		return r, fmt.Errorf("configuration: %w", err)
	}
	r.Empty = len(bytes.TrimSpace(raw)) == 0
	lines, err := decode(raw, &r.Config)
	if err != nil {
		return r, fmt.Errorf("configuration %s: %w", r.File, err)
	}
	all := leaves(reflect.ValueOf(&r.Config).Elem(), "", false)
	for _, l := range all {
		s := Setting{Name: l.name, Layer: ByDefault, Restart: l.restart}
		if line, ok := lines[l.name]; ok {
			s.Layer, s.Where = ByFile, fmt.Sprintf("%s:%d", r.File, line)
			l.beside(filepath.Dir(r.File))
		}
		if text := os.Getenv(l.env); text != "" {
			s.Layer, s.Where = ByEnvironment, l.env
			if err := l.set(split(l, text)); err != nil {
				return r, fmt.Errorf("the variable %s: %w", l.env, err)
			}
		}
		if i := slices.IndexFunc(flags, func(f Flag) bool { return f.Name == l.name }); i >= 0 {
			s.Layer, s.Where = ByFlag, flags[i].Flag
			if err := l.set(flags[i].Values); err != nil {
				return r, fmt.Errorf("the flag %s: %w", flags[i].Flag, err)
			}
		}
		r.Settings = append(r.Settings, s)
	}
	if err := r.Check(); err != nil {
		return r, fmt.Errorf("configuration: %w", err)
	}
	for i, l := range all {
		if r.Settings[i].Value, err = l.text(); err != nil {
			return r, fmt.Errorf("configuration: %s: %w", l.name, err)
		}
	}
	return r, nil
}

// split takes the text of a variable apart if its setting is a list: folders as the system does it, the rest at commas.
func split(l leaf, text string) []string {
	switch {
	case l.value.Kind() != reflect.Slice:
		return []string{text}
	case l.name == "models.folders":
		return filepath.SplitList(text)
	}
	list := strings.Split(text, ",")
	for i := range list {
		list[i] = strings.TrimSpace(list[i])
	}
	return list
}

// set gives a setting the value that texts stand for.
func (l leaf) set(texts []string) (err error) {
	defer unpanicked(&err)
	switch l.value.Interface().(type) {
	case []string:
		l.value.Set(reflect.ValueOf(texts))
		return nil
	case time.Duration:
		d, err := time.ParseDuration(texts[0])
		if err != nil {
			return fmt.Errorf("%q is no time such as 90s, 15m or 2h", texts[0])
		}
		l.value.Set(reflect.ValueOf(d))
		return nil
	}
	if l.value.Kind() == reflect.String {
		l.value.SetString(texts[0])
		return nil
	}
	if err := yaml.Unmarshal([]byte(texts[0]), l.value.Addr().Interface()); err != nil {
		return fmt.Errorf("%q does not fit: %s", texts[0], firstLine(err))
	}
	return nil
}

// beside has the paths of a file begin at its folder, rather than where the gate happens to be started.
func (l leaf) beside(folder string) {
	if !slices.Contains([]string{"data", "models.folders", "network.certificate", "network.key", "network.acme.roots", "fleet.credentials", "fleet.roots"}, l.name) {
		return
	}
	for _, path := range l.paths() {
		if *path != "" && !filepath.IsAbs(*path) && !strings.HasPrefix(*path, "~") {
			*path = filepath.Join(folder, *path)
		}
	}
}

// paths are the texts of a setting that has paths.
func (l leaf) paths() []*string {
	if list, ok := l.value.Addr().Interface().(*[]string); ok {
		return pointers(*list)
	}
	return []*string{l.value.Addr().Interface().(*string)}
}

// text is the value of a setting in YAML, on one line.
func (l leaf) text() (string, error) {
	if l.value.Kind() == reflect.String {
		return l.value.String(), nil
	}
	raw, err := yaml.MarshalWithOptions(l.value.Interface(), yaml.Flow(true))
	return strings.TrimSpace(string(raw)), err
}

// decode reads YAML over what is in c, and tells at which line which setting stands.
func decode(raw []byte, c *Config) (lines map[string]int, err error) {
	defer unpanicked(&err)
	file, err := parser.ParseBytes(raw, 0)
	if err != nil {
		return nil, errors.New(firstLine(err))
	}
	lines = map[string]int{}
	if len(file.Docs) > 1 {
		return nil, errors.New("it has several documents, separated by ---; only one can be used")
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return lines, nil
	}
	// A file of nothing but comments says nothing; the decoder would take it for "no configuration at all".
	switch body := file.Docs[0].Body.(type) {
	case *ast.NullNode, *ast.CommentGroupNode:
		return lines, nil
	case *ast.MappingNode, *ast.MappingValueNode:
		if err := known(body, reflect.TypeFor[Config](), "", lines); err != nil {
			return nil, err
		}
	}
	if err := yaml.NewDecoder(bytes.NewReader(raw), yaml.Strict()).Decode(c); err != nil {
		return nil, errors.New(firstLine(err))
	}
	return lines, nil
}

// unpanicked makes an error of a panic: the parser gives up so on some texts that no one writes, such as a list with the tag of something else.
func unpanicked(err *error) {
	if p := recover(); p != nil {
		*err = fmt.Errorf("it cannot be read as YAML: %v", p)
	}
}

// known reports keys of a mapping that there are not in t, with the nearest that there is; of the others it notes the lines.
func known(n ast.Node, t reflect.Type, name string, lines map[string]int) error {
	var pairs []*ast.MappingValueNode
	switch m := n.(type) {
	case *ast.MappingNode:
		pairs = m.Values
	case *ast.MappingValueNode:
		pairs = []*ast.MappingValueNode{m}
	default:
		return nil // its type is the decoder's matter
	}
	fields := map[string]reflect.StructField{}
	var names []string
	for i := range t.NumField() {
		key := t.Field(i).Tag.Get("yaml")
		fields[key], names = t.Field(i), append(names, key)
	}
	for _, p := range pairs {
		at := p.Key.GetToken().Position
		key := p.Key.GetToken().Value
		path := strings.TrimPrefix(name+"."+key, ".")
		f, ok := fields[key]
		if !ok {
			near := slices.MinFunc(names, func(a, b string) int {
				return levenshtein.ComputeDistance(key, a) - levenshtein.ComputeDistance(key, b)
			})
			said := "\"kindred serve --print-config\" lists those that there are"
			if levenshtein.ComputeDistance(key, near) <= max(2, len(key)/2) {
				said = fmt.Sprintf("the nearest is %q", strings.TrimPrefix(name+"."+near, "."))
			}
			return fmt.Errorf("line %d, column %d: there is no setting %q; %s", at.Line, at.Column, path, said)
		}
		lines[path] = at.Line
		inner := f.Type
		if inner.Kind() == reflect.Struct {
			if err := known(p.Value, inner, path, lines); err != nil {
				return err
			}
		}
		if inner.Kind() != reflect.Struct {
			// The decoder does not say where a text stands that a type of ours does not take.
			if err := yaml.NodeToValue(p.Value, reflect.New(inner).Interface()); err != nil && !strings.HasPrefix(err.Error(), "[") {
				return fmt.Errorf("line %d: %s: %s", at.Line, path, firstLine(err))
			}
		}
		if list, ok := p.Value.(*ast.SequenceNode); ok && inner.Kind() == reflect.Slice && inner.Elem().Kind() == reflect.Struct {
			for i, item := range list.Values {
				if err := known(item, inner.Elem(), fmt.Sprintf("%s[%d]", path, i), map[string]int{}); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// firstLine is the message of a YAML error, which begins with [line:column], without the excerpt after it.
func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// Declarations reads the sections of a file that "kindred apply" is for, as JSON.
func Declarations(path string) ([]byte, error) {
	raw, err := system.ReadGiven(path, maxFile)
	if err != nil {
		return nil, err
	}
	c := Default()
	if _, err := decode(raw, &c); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return c.Declarations()
}

// Print writes the configuration as a file would say it, each setting with where it comes from.
func (r Reading) Print() (string, error) {
	var b strings.Builder
	w := tabwriter.NewWriter(&b, 0, 0, 2, ' ', 0)
	section := ""
	for i, l := range leaves(reflect.ValueOf(&r.Config).Elem(), "", false) {
		raw, err := yaml.MarshalWithOptions(l.value.Interface(), yaml.Flow(true))
		if err != nil {
			return "", fmt.Errorf("%s: %w", l.name, err)
		}
		parts := strings.Split(l.name, ".")
		for depth := range len(parts) - 1 {
			if part := strings.Join(parts[:depth+1], "."); !strings.HasPrefix(section, part+".") {
				fmt.Fprintf(w, "%s%s:\n", strings.Repeat("  ", depth), parts[depth])
			}
		}
		section = l.name
		key := strings.Repeat("  ", len(parts)-1) + parts[len(parts)-1]
		from := strings.TrimSpace(string(r.Settings[i].Layer) + " " + r.Settings[i].Where)
		fmt.Fprintf(w, "%s: %s\t# %s\n", key, strings.TrimSpace(string(raw)), from)
	}
	err := w.Flush()
	return b.String(), err
}

// Differences lists the settings that two readings have different values for, as the later one has them.
func Differences(before, after Reading) (list []Setting) {
	for i, s := range after.Settings {
		if i >= len(before.Settings) || before.Settings[i].Value != s.Value {
			list = append(list, s)
		}
	}
	return list
}

// Held is what holds of a configuration that is set while another one runs: what needs a restart stays as it runs.
func Held(running, set Config) Config {
	old := leaves(reflect.ValueOf(&running).Elem(), "", false)
	for i, l := range leaves(reflect.ValueOf(&set).Elem(), "", false) {
		if l.restart {
			l.value.Set(old[i].value)
		}
	}
	return set
}

// Values are the settings of a configuration by their names, in YAML, on one line.
func (c Config) Values() (map[string]string, error) {
	values := map[string]string{}
	for _, l := range leaves(reflect.ValueOf(&c).Elem(), "", false) {
		text, err := l.text()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", l.name, err)
		}
		values[l.name] = text
	}
	return values, nil
}

package cli

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/prompt"
)

// table prints rows in columns; the first row is the head.
func table(out io.Writer, rows ...[]string) error {
	var aligned bytes.Buffer
	w := tabwriter.NewWriter(&aligned, 0, 4, 3, ' ', 0)
	for _, r := range rows {
		cells := make([]string, len(r))
		for i, cell := range r {
			cells[i] = shown(strings.Join(strings.Fields(cell), " ")) // a row is a line
			if i == 0 {
				cells[i] = cell[:len(cell)-len(strings.TrimLeft(cell, " "))] + cells[i]
			}
		}
		fmt.Fprintln(w, strings.Join(cells, "\t")) // with its empty cells, or the columns would begin anew behind it
	}
	if err := w.Flush(); err != nil {
		return err
	}
	for line := range strings.Lines(aligned.String()) {
		if _, err := fmt.Fprintln(out, strings.TrimRight(line, " \n")); err != nil {
			return err
		}
	}
	return nil
}

func agoOr(at *time.Time, otherwise string) string {
	if at == nil {
		return otherwise
	}
	return ago(*at)
}

// ago says how long something is past, roughly.
func ago(at time.Time) string {
	switch d := time.Since(at); {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	default:
		return at.Format(time.DateOnly)
	}
}

// instructionsPlace says where instructions stand in the prompt.
func instructionsPlace(a *prompt.Abilities) string {
	if a.System {
		return "in a system turn"
	}
	return "at the head of the first user turn; the template has no system turn"
}

// toolAbilities says what the template shows of tools.
func toolAbilities(a *prompt.Abilities) string {
	if !a.Tools {
		return "not shown to the model by its template"
	}
	list := []string{"offered"}
	if a.ParallelCalls {
		list = append(list, "several calls in a turn")
	} else if a.Calls {
		list = append(list, "one call in a turn")
	}
	if a.Results {
		list = append(list, "results taken")
	}
	return strings.Join(list, ", ")
}

// reasoningAbility says whether the model can be asked to reason first.
func reasoningAbility(a *prompt.Abilities) string {
	if a.Thinking {
		return "on request"
	}
	return "no switch in the template"
}

// sampling writes sampling values in a row.
func sampling(d catalog.Defaults) string {
	var list []string
	for _, s := range d.List() {
		if s.Name != "repetition_penalty" || s.Value != 1 {
			list = append(list, fmt.Sprintf("%s %g", s.Name, s.Value))
		}
	}
	return strings.Join(list, ", ")
}

// count writes a large number as people say it, 3.7 M, and nothing for 0: it is then not known.
func count(n int64) string {
	if n == 0 {
		return ""
	}
	for _, u := range []struct {
		at   float64
		unit string
	}{{1e9, " B"}, {1e6, " M"}, {1e3, " k"}} {
		if v := float64(n) / u.at; v >= 1 {
			return fmt.Sprintf("%.3g%s", v, u.unit)
		}
	}
	return fmt.Sprint(n)
}

func files(n int) string {
	if n == 1 {
		return "1 file"
	}
	return fmt.Sprintf("%d files", n)
}

// size writes a number of bytes as people say it: 4.0 MB.
func size(n int64) string {
	for _, u := range []struct {
		at   float64
		unit string
	}{{1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}} {
		if v := float64(n) / u.at; v >= 1 {
			return fmt.Sprintf("%.1f %s", v, u.unit)
		}
	}
	return fmt.Sprintf("%d B", n)
}

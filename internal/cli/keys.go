package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/fatih/color"
	"github.com/spf13/cobra"

	"kindredgate/internal/keyring"
	"kindredgate/internal/server"
)

func (t *terminal) keys() *cobra.Command {
	return group("keys", "Issue, limit, list and revoke API keys", t.keysIssue(), t.keysList(), t.keysShow(), t.keysChange(), t.keysRotate(), t.keysRevoke(), t.keysMine())
}

// termFlags are the options that say what a key may: one for each of a key's terms, but the label, and for each limit.
type termFlags struct {
	lists    map[string]*[]string
	texts    map[string]*string
	yes      map[string]*bool
	forModel string
	limits   limitFlags
}

func (f *termFlags) add(cmd *cobra.Command) {
	f.lists, f.texts, f.yes = map[string]*[]string{}, map[string]*string{}, map[string]*bool{}
	fs := cmd.Flags()
	for _, k := range keyring.TermKinds {
		help := cmp.Or(k.Help, k.Means)
		switch name := flagOf(k.Name); k.Kind {
		case keyring.TermList:
			f.lists[k.Name] = fs.StringSlice(name, nil, help)
		case keyring.TermYes:
			f.yes[k.Name] = fs.Bool(name, false, help)
		case keyring.TermText, keyring.TermTime, keyring.TermChoice:
			if k.Name != "label" {
				f.texts[k.Name] = fs.String(name, "", help)
			}
		case keyring.TermLimits, keyring.TermLimitsByModel:
		}
	}
	fs.StringVar(&f.forModel, "for-model", "", "have the limits hold for this model or preset alone, besides those for all")
	formerly(fs, "record", "record-content")
	f.limits.add(cmd)
}

// limitFlags are the options for limits.
type limitFlags struct{ keyring.Limits }

func (f *limitFlags) add(cmd *cobra.Command) {
	for kind, k := range keyring.LimitKinds {
		cmd.Flags().IntVar(&f.Limits[kind], flagOf(k.Name), 0, k.Means+"; 0 for no limit")
	}
}

// given are the limits that were named.
func (f *limitFlags) given(cmd *cobra.Command) map[string]int {
	limits := map[string]int{}
	for kind, k := range keyring.LimitKinds {
		if cmd.Flags().Changed(flagOf(k.Name)) {
			limits[k.Name] = f.Limits[kind]
		}
	}
	return limits
}

// flagOf is the option for a limit.
func flagOf(limit string) string { return strings.ReplaceAll(limit, "_", "-") }

// body is what the options ask for, as the gate takes it. What was not given is not in it.
func (f *termFlags) body(cmd *cobra.Command) (map[string]any, error) {
	body := map[string]any{}
	for _, k := range keyring.TermKinds {
		if k.Name == "label" || !cmd.Flags().Changed(flagOf(k.Name)) {
			continue
		}
		switch k.Kind {
		case keyring.TermList:
			body[k.Name] = append([]string{}, *f.lists[k.Name]...)
		case keyring.TermYes:
			body[k.Name] = *f.yes[k.Name]
		case keyring.TermText:
			body[k.Name] = *f.texts[k.Name]
		case keyring.TermTime:
			at, err := ending(*f.texts[k.Name], time.Now())
			if err != nil {
				return nil, usageError{err}
			}
			body[k.Name] = at
		case keyring.TermChoice:
			said := *f.texts[k.Name]
			if said == asSet {
				said = ""
			} else if said == "" || !slices.Contains(k.Choices, said) {
				return nil, usageError{fmt.Errorf("--%s is %q; it must be %s or %s", flagOf(k.Name), said, strings.Join(k.Choices[1:], ", "), asSet)}
			}
			body[k.Name] = said
		case keyring.TermLimits, keyring.TermLimitsByModel:
		}
	}
	limits := f.limits.given(cmd)
	switch {
	case f.forModel != "":
		body["limits_by_model"] = map[string]any{f.forModel: limits}
	case len(limits) > 0:
		body["limits"] = limits
	}
	return body, nil
}

// asSet stands for what the settings say.
const asSet = "as-set"

// ending reads when a key ends; it is nil for never.
func ending(text string, now time.Time) (*time.Time, error) {
	if text == "" || text == "never" {
		return nil, nil
	}
	if at, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		at = at.AddDate(0, 0, 1) // the day is the last one
		return &at, nil
	}
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return &at, nil
	}
	left, err := time.ParseDuration(text)
	if days, ok := strings.CutSuffix(text, "d"); ok {
		var n int
		n, err = strconv.Atoi(days)
		left = time.Duration(n) * 24 * time.Hour
	}
	if err != nil || left <= 0 {
		return nil, fmt.Errorf("%q is no end for a key: give a day such as 2031-01-31, a time from now such as 12h or 30d, or never", text)
	}
	at := now.Add(left)
	return &at, nil
}

func (t *terminal) keysIssue() *cobra.Command {
	var flags clientFlags
	var terms termFlags
	var label string
	var asJSON, narrower bool
	cmd := &cobra.Command{
		Use:   "issue --label NAME",
		Short: "Issue a key for an application",
		Example: `  kindred keys issue --label "timetable bot" --models harbour-4m
  kindred keys issue --label visitor --requests-per-minute 10 --tokens-per-day 50000 --expires 30d`,
		Args: exactly(),
		RunE: func(c *cobra.Command, _ []string) error {
			if label == "" {
				return usageError{fmt.Errorf("a key needs a label, to tell it from the others: --label \"timetable bot\"")}
			}
			body, err := terms.body(c)
			if err != nil {
				return err
			}
			body["label"] = label
			flags.application = narrower
			gate, err := flags.open(c.Context())
			if err != nil {
				return err
			}
			var k server.IssuedKey
			path := "/gate/keys"
			if narrower {
				path = "/gate/key/issue"
			}
			if err := gate.call(c.Context(), http.MethodPost, path, body, &k); err != nil {
				return err
			}
			return t.newKey(k, k, asJSON, fmt.Sprintf("This is the key for %q.", k.Label))
		},
	}
	flags.add(cmd)
	terms.add(cmd)
	cmd.Flags().StringVar(&label, "label", "", "what the key is for")
	cmd.Flags().BoolVar(&narrower, "narrower", false, "issue it with the key that is used (--key), which must be one that may; what it uses counts for both")
	cmd.Flags().BoolVarP(&asJSON, "json", "j", false, "print JSON")
	return cmd
}

// newKey prints a key that is shown once.
func (t *terminal) newKey(k server.IssuedKey, whole any, asJSON bool, says string) error {
	if asJSON {
		return t.printJSON(whole)
	}
	if !isTerminal(t.out) {
		_, err := fmt.Fprintln(t.out, k.Key) // for scripts: the key alone
		return err
	}
	_, err := fmt.Fprintf(t.out, "%s\n\n%s It is shown this once: copy it now.\n", paint(t.out, color.Bold)(k.Key), shown(says))
	return err
}

func (t *terminal) keysList() *cobra.Command {
	return listing(t, "List the keys; secrets are not shown", func(ctx context.Context, gate *client) (list []server.KeyInfo, err error) {
		var got struct {
			Keys []server.KeyInfo `json:"keys"`
		}
		err = gate.call(ctx, http.MethodGet, "/gate/keys", nil, &got)
		return got.Keys, err
	}, func(keys []server.KeyInfo) (rows [][]string, empty string) {
		rows = [][]string{{"KEY", "LABEL", "MODELS", "LIMITS", "ISSUED", "LAST USED", "STATE"}}
		for _, k := range keys {
			rows = append(rows, []string{k.ID + "…", k.Label, orAll(k.Models), limitsInShort(k), ago(k.Created), agoOr(k.LastUsed, "never"), keyState(k)})
		}
		return rows, ""
	})
}

func orAll(list []string) string {
	if len(list) == 0 {
		return "all"
	}
	return strings.Join(list, ", ")
}

// limitsInShort are the limits that are met first, as a rule.
func limitsInShort(k server.KeyInfo) string {
	const most = 2
	var list []string
	for kind, n := range k.Limits {
		if n > 0 {
			list = append(list, strings.ReplaceAll(count(int64(n)), " ", "")+" "+keyring.LimitKinds[kind].Short)
		}
	}
	if len(list) > most || len(k.ByModel) > 0 {
		list = append(list[:min(most, len(list))], "…")
	}
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, ", ")
}

func keyState(k server.KeyInfo) string {
	switch {
	case k.Revoked != nil:
		return "revoked " + ago(*k.Revoked)
	case k.Owner:
		return "valid, manages the gate"
	case k.Expires != nil && !time.Now().Before(*k.Expires):
		return "expired " + ago(*k.Expires)
	case k.Expires != nil:
		return "valid until " + k.Expires.Local().Format("2006-01-02 15:04")
	}
	return "valid"
}

func (t *terminal) keysShow() *cobra.Command {
	return looking(t, "show KEY", "Show permissions and limit status of a key", exactly("a key"), func(ctx context.Context, gate *client, args []string) (k server.OwnKey, err error) {
		return k, gate.call(ctx, http.MethodGet, keyPath(args[0]), nil, &k)
	}, t.showKey)
}

func (t *terminal) keysMine() *cobra.Command {
	return lookingWith(t, clientFlags{application: true}, "self", "Show permissions and limit status of the key in use (--key, KINDRED_KEY)", exactly(), func(ctx context.Context, gate *client, _ []string) (k server.OwnKey, err error) {
		return k, gate.call(ctx, http.MethodGet, "/gate/key", nil, &k)
	}, t.showKey)
}

func (t *terminal) showKey(k server.OwnKey) error {
	var rows [][]string
	for _, f := range k.Facts {
		rows = append(rows, []string{"  " + f.Title, f.Text})
	}
	fmt.Fprintf(t.out, "%s  %s…\n\n", paint(t.out, color.Bold)(shown(k.Label)), k.ID)
	if err := table(t.out, rows...); err != nil {
		return err
	}
	if len(k.Standing) == 0 {
		_, err := fmt.Fprintln(t.out, "\nNo limits are set.")
		return err
	}
	rows = [][]string{{"LIMIT", "MODEL", "REMAINING", "OF", "RESETS IN"}}
	for _, s := range k.Standing {
		with := s.Model
		if with == "" {
			with = "all models"
		}
		rows = append(rows, append([]string{s.What, with}, standingCells(s)...))
	}
	fmt.Fprintln(t.out)
	return table(t.out, rows...)
}

// standingCells are what is left of a limit, of how much, and when all of it can be used again.
func standingCells(s server.LimitStanding) []string {
	again := ""
	if s.ResetSeconds > 0 {
		again = time.Duration(s.ResetSeconds * float64(time.Second)).Round(time.Second).String()
	}
	left, limit := fmt.Sprint(s.Remaining), fmt.Sprint(s.Limit)
	if s.What == keyring.CostAMonth {
		left, limit = fmt.Sprintf("%.2f", float64(s.Remaining)/1e6), fmt.Sprintf("%.2f", float64(s.Limit)/1e6)
	}
	return []string{left, limit, again}
}

// keyPath is where a key is managed; it may be named by the beginning that is shown, with its dots, or by its label.
func keyPath(ref string) string {
	return "/gate/keys/" + url.PathEscape(strings.TrimSuffix(ref, "…"))
}

func (t *terminal) keysChange() *cobra.Command {
	var flags clientFlags
	var terms termFlags
	var label string
	cmd := &cobra.Command{
		Use:   "change KEY",
		Short: "Change permissions and limits of a key, from its next request on; the others stay",
		Example: `  kindred keys change "timetable bot" --requests-per-minute 60
  kindred keys change "timetable bot" --for-model harbour-4m --tokens-per-day 50000
  kindred keys change "timetable bot" --models "" --expires never`,
		Args: exactly("a key"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			body, err := terms.body(c)
			if err != nil {
				return err
			}
			if c.Flags().Changed("label") {
				body["label"] = label
			}
			if len(body) == 0 {
				return usageError{fmt.Errorf("nothing is to be changed; name what is, such as --requests-per-minute 60")}
			}
			if terms.forModel != "" {
				// The limits of other models stay.
				var k server.KeyInfo
				if err := gate.call(c.Context(), http.MethodGet, keyPath(args[0]), nil, &k); err != nil {
					return err
				}
				by := body["limits_by_model"].(map[string]any)
				for model := range k.ByModel {
					if _, ok := by[model]; !ok {
						by[model] = map[string]any{}
					}
				}
			}
			var k server.KeyInfo
			if err := gate.call(c.Context(), http.MethodPatch, keyPath(args[0]), body, &k); err != nil {
				return err
			}
			_, err = fmt.Fprintf(t.out, "%s… (%s) is changed; \"kindred keys show %s\" shows what it may.\n", k.ID, k.Label, k.ID)
			return err
		}),
	}
	flags.add(cmd)
	terms.add(cmd)
	cmd.Flags().StringVar(&label, "label", "", "what the key is for")
	return cmd
}

func (t *terminal) keysRotate() *cobra.Command {
	var flags clientFlags
	var grace string
	var asJSON bool
	cmd := &cobra.Command{
		Use:     "rotate KEY",
		Short:   "Replace a key by a new one; the old one keeps working for a grace period",
		Example: `  kindred keys rotate "timetable bot" --grace 24h`,
		Args:    exactly("a key"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			left := time.Duration(0)
			if grace != "0" {
				end, err := ending(grace, time.Time{})
				if err != nil || end == nil || end.Year() > 1 {
					return usageError{fmt.Errorf("--grace is %q; it is a time such as 12h or 7d, or 0", grace)}
				}
				left = end.Sub(time.Time{})
			}
			var k server.RotatedKey
			if err := gate.call(c.Context(), http.MethodPost, keyPath(args[0])+"/rotate", map[string]any{"grace_seconds": int(left.Seconds())}, &k); err != nil {
				return err
			}
			until := "no longer works"
			if k.Old.Revoked == nil {
				until = "works until " + k.Old.Expires.Local().Format("2006-01-02 15:04")
			}
			return t.newKey(k.IssuedKey, k, asJSON, fmt.Sprintf("This is the new key for %q; the old one, %s…, %s.", k.Label, k.Old.ID, until))
		}),
	}
	flags.add(cmd)
	cmd.Flags().StringVar(&grace, "grace", "24h", "how long the old key goes on working: a time such as 12h or 7d, or 0")
	cmd.Flags().BoolVarP(&asJSON, "json", "j", false, "print JSON")
	return cmd
}

func (t *terminal) keysRevoke() *cobra.Command {
	var flags clientFlags
	cmd := &cobra.Command{
		Use:   "revoke KEY",
		Short: "Revoke a key, by its id or its label",
		Args:  exactly("a key"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			var k server.RevokedKey
			if err := gate.call(c.Context(), http.MethodDelete, keyPath(args[0]), nil, &k); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "%s… (%s) is revoked: requests with it are refused from now on, and those in progress have ended.\n", k.ID, k.Label)
			if k.Warning != "" {
				fmt.Fprintf(t.err, "kindred: %s\n", k.Warning)
			}
			return nil
		}),
	}
	flags.add(cmd)
	return cmd
}

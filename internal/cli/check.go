package cli

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"

	"github.com/fatih/color"
	"github.com/spf13/cobra"

	"kindredgate/internal/check"
	"kindredgate/internal/config"
	"kindredgate/internal/machine"
	"kindredgate/internal/server"
)

func (t *terminal) check() *cobra.Command {
	var flags clientFlags
	var remote, roots string
	var ready, asJSON bool
	cmd := &cobra.Command{
		Use:   "check",
		Short: "Check the gate, or a base URL and a key, for common problems",
		Long: `Look at the gate that runs here: its settings, address, keys, models, disk, and what its clients met. With --remote, look at a gate as an
application does, by its base URL and a key. The exit code is 1 if something is wrong.`,
		Example: `  kindred check
  kindred check --remote https://gate.example/v1 --key "$KINDRED_KEY"`,
		Args: exactly(),
		RunE: func(c *cobra.Command, _ []string) error {
			if ready {
				return t.ready(c.Context(), &flags)
			}
			var found []check.Finding
			var err error
			if remote != "" {
				found, err = t.fromOutside(c.Context(), remote, flags.key, roots)
			} else {
				found, err = t.fromInside(c.Context(), &flags)
			}
			if err != nil {
				return err
			}
			return t.findings(found, asJSON)
		},
	}
	flags.add(cmd)
	cmd.Flags().StringVar(&remote, "remote", "", "base URL of a gate that is looked at from outside")
	cmd.Flags().BoolVar(&ready, "ready", false, "only whether the gate takes requests, by the exit code: for health checks")
	cmd.Flags().StringVar(&roots, "roots", "", "PEM file with certificates that are trusted, for --remote; the system's if it is not given")
	cmd.Flags().BoolVarP(&asJSON, "json", "j", false, "print JSON")
	return cmd
}

// ready asks whether the gate takes requests.
func (t *terminal) ready(ctx context.Context, flags *clientFlags) error {
	gate, err := flags.open(ctx)
	if err != nil {
		return err
	}
	resp, err := gate.send(ctx, http.MethodGet, "/readyz", nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = fmt.Fprintln(t.out, "ready")
	return err
}

func (t *terminal) fromOutside(ctx context.Context, remote, key, roots string) ([]check.Finding, error) {
	if key == "" {
		key = os.Getenv("KINDRED_KEY")
	}
	var pool *x509.CertPool
	if roots != "" {
		raw, err := os.ReadFile(roots)
		if err != nil {
			return nil, err
		}
		pool = x509.NewCertPool()
		if !pool.AppendCertsFromPEM(raw) {
			return nil, fmt.Errorf("%s has no certificate in PEM", roots)
		}
	}
	return check.Remote(ctx, remote, key, pool), nil
}

// fromInside asks the gate that runs; if none does, it looks for why.
func (t *terminal) fromInside(ctx context.Context, flags *clientFlags) ([]check.Finding, error) {
	gate, err := flags.open(ctx)
	var got server.CheckList
	if err == nil {
		err = gate.call(ctx, http.MethodGet, "/gate/check", nil, &got)
	}
	if err == nil {
		return append(got.Findings, check.Remote(ctx, gate.base+"/v1", gate.key, nil)...), nil
	}
	var usage usageError
	if errors.As(err, &usage) || flags.address != "" {
		return nil, err
	}
	return append([]check.Finding{{Name: "gate", State: check.Error, Said: err.Error(), Remedy: "start it with \"kindred serve\", or name its address with --address"}}, whyNot()...), nil
}

// whyNot looks for what would keep a gate from starting here.
func whyNot() []check.Finding {
	r, err := config.Read(os.Getenv("KINDRED_CONFIG"))
	if err != nil {
		return []check.Finding{{Name: "configuration", State: check.Error, Said: err.Error(), Remedy: "mend it; \"kindred serve --print-config\" tells whether it can be used"}}
	}
	said := r.File + " can be used"
	if _, err := os.Stat(r.File); err != nil {
		said = "there is no file, so the defaults hold"
	}
	found := []check.Finding{{Name: "configuration", State: check.OK, Said: said}}
	host, port, err := net.SplitHostPort(r.Listen)
	n, err2 := strconv.ParseUint(port, 10, 16)
	if err == nil && err2 == nil {
		if who := machine.Listener(host, uint32(n)); who != "" {
			found = append(found, check.Finding{Name: "address", State: check.Error, Said: fmt.Sprintf("%s is in use by %s", r.Listen, who), Remedy: "stop that, or choose another address with listen"})
		} else {
			found = append(found, check.Finding{Name: "address", State: check.OK, Said: r.Listen + " is free"})
		}
	}
	for _, folder := range r.Models.Folders {
		if _, err := os.Stat(folder); err != nil {
			found = append(found, check.Finding{Name: "models", State: check.Warning, Said: "the folder " + folder + " is not there", Remedy: "\"kindred models add\" makes it, once the gate runs; models.folders names others"})
		}
	}
	return found
}

// errFound ends the command with the code for something wrong, which has been said.
var errFound = errors.New("something is wrong; what to do stands above")

func (t *terminal) findings(found []check.Finding, asJSON bool) error {
	wrong := false
	for _, f := range found {
		wrong = wrong || f.State == check.Error
	}
	if asJSON {
		if err := t.printJSON(server.CheckList{Findings: found}); err != nil {
			return err
		}
	} else {
		t.printFindings(found)
	}
	if wrong {
		return errFound
	}
	return nil
}

func (t *terminal) printFindings(found []check.Finding) {
	looks := map[check.State]func(string) string{check.OK: paint(t.out, color.FgGreen), check.Warning: paint(t.out, color.FgYellow), check.Error: paint(t.out, color.FgRed, color.Bold)}
	widest := 0
	for _, f := range found {
		widest = max(widest, len(f.Name))
	}
	counts := map[check.State]int{}
	// What wants something done is last, where it is seen.
	for _, state := range []check.State{check.OK, check.Warning, check.Error} {
		for _, f := range found {
			if f.State != state {
				continue
			}
			counts[state]++
			fmt.Fprintf(t.out, "%s  %-*s  %s\n", looks[state](fmt.Sprintf("%-7s", state)), widest, shown(f.Name), shown(f.Said))
			if f.Remedy != "" {
				fmt.Fprintf(t.out, "%s  %s\n", strings.Repeat(" ", 9+widest), shown(strings.ToUpper(f.Remedy[:1])+f.Remedy[1:]))
			}
		}
	}
	fmt.Fprintf(t.out, "\n%d ok, %d warnings, %d errors\n", counts[check.OK], counts[check.Warning], counts[check.Error])
}

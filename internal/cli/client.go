package cli

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kindredgate/internal/boot"
	"kindredgate/internal/keyring"
	"kindredgate/internal/server"
	"kindredgate/internal/system"
)

// client calls a gate that runs.
type client struct {
	base string // scheme and host
	key  string
	http *http.Client
	from string // where the key is from, in words
	// exact leaves texts as they are; else they can be printed when they have been read.
	exact bool
}

// clientFlags are the options by which a command reaches another gate than the local one.
type clientFlags struct {
	address, key string
	application  bool // whether the command does what applications do, rather than manage the gate
}

// The variables that keys are taken from: that of an application, and that of the operator.
const (
	keyVariable      = "KINDRED_KEY"
	ownerKeyVariable = "KINDRED_OWNER_KEY"
)

func (f *clientFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVarP(&f.address, "address", "a", os.Getenv("KINDRED_ADDRESS"), "address of the gate, if not the one running here (KINDRED_ADDRESS)")
	variable := ownerKeyVariable
	if f.application {
		variable = keyVariable
	}
	cmd.Flags().StringVarP(&f.key, "key", "k", "", "key to use, if not the owner key of the local gate ("+variable+")")
}

// open finds the gate and the key to use with it.
func (f *clientFlags) open(ctx context.Context) (*client, error) {
	scheme, host, err := splitAddress(f.address)
	if err != nil {
		return nil, usageError{err}
	}
	g, err := findGate(host)
	if err != nil {
		return nil, err
	}
	c := &client{base: scheme + "://" + g.Address, http: &http.Client{}}
	take := func(key, from string) {
		if c.key == "" && key != "" {
			c.key, c.from = key, from
		}
	}
	take(f.key, "--key")
	if f.application {
		take(os.Getenv(keyVariable), keyVariable)
	} else {
		take(os.Getenv(ownerKeyVariable), ownerKeyVariable)
	}
	if c.key == "" && g.Data != "" {
		file := filepath.Join(g.Data, boot.OwnerFile)
		raw, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("the owner key of the gate at %s cannot be read (%w); give a key with --key", g.Address, err)
		}
		owner := strings.TrimSpace(string(raw))
		if err := c.prove(ctx, owner, g.Address); err != nil {
			return nil, err
		}
		take(owner, file)
	}
	// Of a gate elsewhere nothing else may be known.
	take(os.Getenv(keyVariable), keyVariable)
	take(os.Getenv(ownerKeyVariable), ownerKeyVariable)
	return c, nil
}

// prove makes sure that what listens at an address is the gate of an owner key, before that key is sent there: a gate that was killed
// leaves its word behind, and its port to anybody.
func (c *client) prove(ctx context.Context, owner, address string) error {
	challenge := rand.Text()
	var answer server.Proof
	err := c.call(ctx, http.MethodGet, "/gate/proof?challenge="+challenge, nil, &answer)
	if err != nil && ctx.Err() != nil {
		return err
	}
	proof, malformed := hex.DecodeString(answer.Proof)
	if err != nil || malformed != nil || !keyring.Proves(owner, challenge, address, proof) {
		return fmt.Errorf("what answers at %s is not the gate that was started there, so the owner key is not sent to it; see what listens there, or start the gate anew", address)
	}
	return nil
}

// run makes the body of a command that talks to a gate.
func (f *clientFlags) run(do func(c *cobra.Command, gate *client, args []string) error) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		gate, err := f.open(c.Context())
		if err != nil {
			return err
		}
		return do(c, gate, args)
	}
}

// splitAddress understands an address in all the forms that people copy: with or without a scheme, with or
// without the path of the base URL.
func splitAddress(address string) (scheme, host string, err error) {
	if address == "" {
		return "http", "", nil
	}
	if !strings.Contains(address, "://") {
		address = "http://" + address
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return "", "", fmt.Errorf("%q is not the address of a gate; one looks like 127.0.0.1:7717 or http://127.0.0.1:7717/v1", address)
	}
	return u.Scheme, u.Host, nil
}

// send makes a request and returns the answer if its status is a good one. body is marshalled unless nil.
func (c *client) send(ctx context.Context, method, path string, body any) (*http.Response, error) {
	var r io.Reader
	if body != nil {
		raw, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		r = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, r)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", "application/json, text/event-stream")
	req.Header.Set("User-Agent", "kindred/"+Version)
	req.Header.Set("Kindred-Silence", "0.5") // so that a person sees that something is done
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.key != "" {
		req.Header.Set("Authorization", "Bearer "+c.key)
	}
	resp, err := c.http.Do(req)
	switch {
	case system.Refused(err):
		return nil, fmt.Errorf("no gate answers at %s; is it running?", c.base)
	case err != nil:
		return nil, err
	case resp.StatusCode >= 300:
		defer resp.Body.Close()
		err := refusal(resp)
		if c.from != "" && (resp.StatusCode == http.StatusUnauthorized || resp.StatusCode == http.StatusForbidden) {
			err = fmt.Errorf("%w; the key in use is %s, from %s", err, keyring.Redact(c.key), c.from)
		}
		return nil, err
	}
	return resp, nil
}

// refusal makes an error of an answer that is one.
func refusal(resp *http.Response) error {
	raw, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if err != nil {
		return err
	}
	if msg := errorMessage(raw); msg != "" {
		return errors.New(msg)
	}
	return fmt.Errorf("the answer from %s is %q, which no gate gives", resp.Request.URL.Host, resp.Status)
}

// errorMessage is the message in a standard error envelope, or nothing.
func errorMessage(raw []byte) string {
	var e struct {
		Error struct {
			Message string `json:"message"`
		} `json:"error"`
	}
	if json.Unmarshal(raw, &e) != nil {
		return ""
	}
	return e.Error.Message
}

// call makes a request and reads the answer into out, unless that is nil.
func (c *client) call(ctx context.Context, method, path string, body, out any) error {
	resp, err := c.send(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		return nil
	}
	raw, err := io.ReadAll(resp.Body)
	if err == nil {
		if !c.exact {
			raw = shownJSON(raw)
		}
		err = json.Unmarshal(raw, out)
	}
	if err != nil {
		return fmt.Errorf("read the gate's answer: %w", err)
	}
	return nil
}

// events reads the data of server-sent events until the one that says it is done. Comments, which say what a model is doing, go to
// told, unless that is nil.
func events(r io.Reader, told func(comment string)) iter.Seq2[[]byte, error] {
	return func(yield func([]byte, error) bool) {
		lines := bufio.NewScanner(r)
		lines.Buffer(nil, 16<<20)
		var data []byte // of an event whose end, an empty line, has not come: a line that was broken off is none
		for lines.Scan() {
			if comment, ok := strings.CutPrefix(lines.Text(), ": "); ok && told != nil {
				told(comment)
			}
			if line, ok := bytes.CutPrefix(lines.Bytes(), []byte("data: ")); ok {
				data = append(data[:0], line...)
			}
			switch {
			case len(lines.Bytes()) > 0 || len(data) == 0:
				continue
			case string(data) == "[DONE]":
				return
			}
			if msg := errorMessage(data); msg != "" {
				yield(nil, errors.New(msg))
				return
			}
			if !yield(data, nil) {
				return
			}
			data = data[:0]
		}
		err := lines.Err()
		if err == nil {
			err = io.ErrUnexpectedEOF
		}
		yield(nil, fmt.Errorf("the answer broke off: %w", err))
	}
}

// model is the one to ask for text: the one named, or the only one there is, presets apart.
func (c *client) model(ctx context.Context, asked string) (string, error) {
	return c.choose(ctx, asked, func(use string) bool { return use != "embedding" })
}

// embedder is the model to ask for vectors: the one named, or the only one there is.
func (c *client) embedder(ctx context.Context, asked string) (string, error) {
	return c.choose(ctx, asked, func(use string) bool { return use == "embedding" })
}

// listedModel is what a gate listedModels to a key.
type listedModel struct {
	ID       string `json:"id"`
	Use      string `json:"use"`
	PresetOf string `json:"preset_of"`
	Target   string `json:"target"` // of a public name
}

// listedModels lists what fits.
func (c *client) listedModels(ctx context.Context, fits func(use string) bool) (fitting []listedModel, err error) {
	var list struct{ Data []listedModel }
	if err := c.call(ctx, http.MethodGet, "/v1/models", nil, &list); err != nil {
		return nil, err
	}
	for _, o := range list.Data {
		if fits(o.Use) {
			fitting = append(fitting, o)
		}
	}
	return fitting, nil
}

// choose finds what is asked for by its name, by the beginning of its name if nothing else begins so, or by its number in the list. What
// is not found so is left to the gate, which says what is installed and why something cannot be used.
func (c *client) choose(ctx context.Context, asked string, fits func(use string) bool) (string, error) {
	list, err := c.listedModels(ctx, fits)
	if err != nil {
		return "", err
	}
	var names, models, begun []string
	for _, o := range list {
		names = append(names, o.ID)
		if o.PresetOf == "" && o.Target == "" {
			models = append(models, o.ID)
		}
		if strings.HasPrefix(o.ID, strings.ToLower(asked)) {
			begun = append(begun, o.ID)
		}
	}
	number, notNumber := strconv.Atoi(asked)
	switch {
	case asked != "" && slices.Contains(names, asked):
		return asked, nil
	case asked != "" && notNumber == nil && number >= 1 && number <= len(names):
		return names[number-1], nil
	case asked != "" && len(begun) == 1:
		return begun[0], nil
	case asked != "" && len(begun) > 1:
		return "", usageError{fmt.Errorf("%q may be %s; write more of the name", asked, strings.Join(begun, " or "))}
	case asked != "":
		return asked, nil
	case len(names) == 0:
		return "", c.nothing(ctx)
	case len(names) == 1:
		return names[0], nil
	case len(models) == 1:
		return models[0], nil
	}
	return "", usageError{fmt.Errorf("choose a model with --model, by its name or number: %s", numbered(names))}
}

// numbered writes names with their numbers.
func numbered(names []string) string {
	list := make([]string, len(names))
	for i, n := range names {
		list[i] = fmt.Sprintf("%d %s", i+1, n)
	}
	return strings.Join(list, ", ")
}

// nothing says why there is no model to ask: what is installed may be unusable, as the owner can see.
func (c *client) nothing(ctx context.Context) error {
	var list server.ModelList
	if err := c.call(ctx, http.MethodGet, "/gate/models", nil, &list); err == nil {
		for _, m := range list.Models {
			if m.Problem != "" {
				return fmt.Errorf("there is no such model to ask: %s cannot be used: %s", m.ID, m.Problem)
			}
		}
		if len(list.Models) == 0 {
			return errors.New("no model is installed yet: \"kindred models add\" brings one")
		}
	}
	return errors.New("the gate has no such model that this key may use; \"kindred models list\" shows what is installed")
}

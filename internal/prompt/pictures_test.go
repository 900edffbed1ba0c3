package prompt

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/exchange"
	"kindredgate/internal/jinja"
	"kindredgate/internal/model"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/vision"
	"kindredgate/internal/weights/safetensors"
)

// sighted is the template of a fixture that takes pictures, and how it sees them.
func sighted(t *testing.T, folder string) (*Template, *model.TowerSpec) {
	t.Helper()
	c, err := safetensors.Open(folder + "/hf")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	spec, err := model.DescribeTower(c, c.Hyper.Width)
	if err != nil {
		t.Fatal(err)
	}
	definition, err := c.Tokenizer()
	if err != nil {
		t.Fatal(err)
	}
	tok, err := tokenizer.New(definition)
	if err != nil {
		t.Fatal(err)
	}
	template, err := New(c.ChatTemplate, tok)
	if err != nil {
		t.Fatal(err)
	}
	return template, spec
}

// Prompts with pictures have the text, the tokens and the rows that other programs give them, for each family.
func TestPromptsWithPictures(t *testing.T) {
	folders, _ := filepath.Glob("../model/testdata/vision/*")
	if len(folders) != 8 {
		t.Fatal(folders)
	}
	for _, folder := range folders {
		t.Run(filepath.Base(folder), func(t *testing.T) {
			template, spec := sighted(t, folder)
			raw, err := os.ReadFile(folder + "/vectors.json")
			if err != nil {
				t.Fatal(err)
			}
			var v struct {
				Images []struct {
					Width  int `json:"width"`
					Height int `json:"height"`
				}
				Prompts []struct {
					Messages []struct {
						Role    exchange.Role
						Content json.RawMessage
					}
					Images    []int
					Expanded  string
					IDs       []int32
					ImageRows [][4]int `json:"image_rows"`
				}
			}
			if err := json.Unmarshal(raw, &v); err != nil {
				t.Fatal(err)
			}
			for n, p := range v.Prompts {
				c := Conversation{Sight: &Sight{Marks: spec.Rule.Marks, Plan: func(image exchange.Image) (vision.Plan, error) {
					of := v.Images[image.At[0]-'0']
					return spec.Rule.Plan(of.Width, of.Height, 0)
				}}}
				next := 0
				for _, m := range p.Messages {
					turn := exchange.Turn{Role: m.Role}
					var list []struct{ Type, Text string }
					if text := ""; json.Unmarshal(m.Content, &text) == nil {
						turn.Parts = append(turn.Parts, exchange.Text(text))
					} else if err := json.Unmarshal(m.Content, &list); err != nil {
						t.Fatal(err)
					}
					for _, part := range list {
						if part.Type == "image" {
							turn.Parts = append(turn.Parts, exchange.Image{At: string(rune('0' + p.Images[next]))})
							next++
						} else {
							turn.Parts = append(turn.Parts, exchange.Text(part.Text))
						}
					}
					c.Turns = append(c.Turns, turn)
				}
				got, err := template.Render(c)
				if err != nil {
					t.Fatalf("prompt %d: %v", n, err)
				}
				if got.Text != p.Expanded {
					t.Errorf("prompt %d is\n%q, want\n%q", n, got.Text, p.Expanded)
				}
				if ids := got.IDs(); !slices.Equal(ids, p.IDs) {
					t.Errorf("prompt %d has the tokens\n%v, want\n%v", n, ids, p.IDs)
				}
				var rows [][4]int
				for _, picture := range got.Pictures {
					for _, piece := range picture.Pieces {
						rows = append(rows, [4]int{int(picture.Image.At[0] - '0'), piece.First, piece.At, piece.N})
					}
					if got.Count(picture.Origin) < picture.Plan.Tokens() {
						t.Errorf("prompt %d: %s counts %d tokens", n, picture.Origin, got.Count(picture.Origin))
					}
				}
				if !slices.Equal(rows, p.ImageRows) {
					t.Errorf("prompt %d has the rows %v, want %v", n, rows, p.ImageRows)
				}
			}
		})
	}
}

// Marks that a user types are text, and stand for no picture; pictures that a template leaves out are refused by their place; and a model without a
// tower takes none.
func TestMarksOfUsers(t *testing.T) {
	for _, name := range []string{"pixtral", "llava-clip", "qwen2-vl", "gemma3-vision"} {
		template, spec := sighted(t, "../model/testdata/vision/"+name)
		sight := &Sight{Marks: spec.Rule.Marks, Plan: func(exchange.Image) (vision.Plan, error) { return spec.Rule.Plan(100, 80, 0) }}
		picture := exchange.Image{At: "messages[0].content[1].image_url.url"}
		typed := exchange.Text("what " + spec.Rule.Marks.Mark + spec.Rule.Marks.Token + " is")
		with, err := template.Render(Conversation{Sight: sight, Turns: []exchange.Turn{say(exchange.User, typed, picture)}})
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if len(with.Pictures) != 1 || !strings.HasPrefix(with.Pictures[0].Origin, "messages[0].content[1]") {
			t.Fatalf("%s: %+v", name, with.Pictures)
		}
		of := with.Pictures[0]
		for _, token := range with.Tokens {
			if token.Control && (token.Start < of.Start || token.Start >= of.End) && strings.Contains(string(typed), with.Text[token.Start:token.End]) {
				t.Errorf("%s: %q, which was typed, is a control token", name, with.Text[token.Start:token.End])
			}
		}
		rows := 0
		for _, p := range of.Pieces {
			rows += p.N
			if at := with.Tokens[p.At]; at.Start < of.Start || at.End > of.End {
				t.Errorf("%s: a row stands where the user typed a mark", name)
			}
		}
		if rows != of.Plan.Tokens() {
			t.Errorf("%s: %d rows of %d", name, rows, of.Plan.Tokens())
		}
		_, err = template.Render(Conversation{Turns: []exchange.Turn{say(exchange.User, typed, picture)}})
		if e := (*exchange.Error)(nil); !errors.As(err, &e) || e.Param != picture.At {
			t.Errorf("%s without a tower: %v", name, err)
		}
	}
	// A template that has pictures in users' turns only.
	template, spec := sighted(t, "../model/testdata/vision/llava-clip")
	plain, err := New(`{% for m in messages %}{% if m['content'] is string %}{{ m['content'] }}{% else %}{% for p in m['content'] %}{% if p.type == 'text' %}{{ p.text }}{% elif m['role'] == 'user' %}<image>{% endif %}{% endfor %}{% endif %}{% endfor %}`, template.tok)
	if err != nil {
		t.Fatal(err)
	}
	_, err = plain.Render(Conversation{Sight: &Sight{Marks: spec.Rule.Marks, Plan: func(exchange.Image) (vision.Plan, error) { return spec.Rule.Plan(100, 80, 0) }}, Turns: []exchange.Turn{
		say(exchange.System, exchange.Text("s"), exchange.Image{At: "messages[0].content[1].image_url.url"}), say(exchange.User, exchange.Text("u"), exchange.Image{At: "messages[1].content[1].image_url.url"})}})
	if e := (*exchange.Error)(nil); !errors.As(err, &e) || e.Param != "messages[0].content[1].image_url.url" || !strings.Contains(e.Message, "leaves out messages[0].content[1], a picture") {
		t.Errorf("a picture in a system turn: %v", err)
	}
}

// A conversation of many turns with a picture costs as much memory as it is long, not its square.
func TestWritingOutIsLinear(t *testing.T) {
	c := &Conversation{Sight: &Sight{Marks: vision.Marks{Mark: "<image>", Token: "*"}}}
	var out jinja.Output
	const turns = 4000
	text := strings.Repeat("a", 1<<10)
	for i := range turns {
		out.Spans = append(out.Spans, jinja.Span{End: (i + 1) << 10, Origin: jinja.Origin{Path: fmt.Sprintf("messages[%d]", i)}})
	}
	out.Text = strings.Repeat(text, turns) + "<image>"
	out.Spans = append(out.Spans, jinja.Span{End: len(out.Text)})
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	got, err := c.writeOut(out, []Picture{{Origin: "messages[4000].content[0]", Plan: vision.Plan{Rows: 1, Columns: 3}}})
	runtime.ReadMemStats(&after)
	if err != nil || !strings.HasSuffix(got.Text, "a***") || len(got.Spans) != turns+1 {
		t.Fatalf("%d spans, %v", len(got.Spans), err)
	}
	if taken := after.TotalAlloc - before.TotalAlloc; taken > 16*uint64(len(out.Text)) {
		t.Errorf("%d bytes are taken for %d", taken, len(out.Text))
	}
}

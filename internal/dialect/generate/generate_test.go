package generate

import (
	"reflect"
	"strings"
	"testing"

	"kindredgate/internal/exchange"
)

// What stands for the same is read as the same, whether it comes as JSON with types, JSON of texts, or a form.
func TestLenience(t *testing.T) {
	want, err := Decode([]byte(`{"model":"m","prompt":"x","stream":true,"temperature":0.2,"max_tokens":5,"seed":-3,"reasoning":false,"stop":["a"],"logit_bias":{"7":-1},"format":{"type":"object"},"history":[{"role":"user","text":"h"}]}`))
	if err != nil {
		t.Fatal(err)
	}
	texts, err := Decode([]byte(`{"model":"m","prompt":"x","stream":"true","temperature":" 0.2 ","max_tokens":"5","seed":"-3","reasoning":"false","stop":"a","top_k":"","logit_bias":"{\"7\": -1}","format":"{\"type\":\"object\"}","history":"[{\"role\":\"user\",\"text\":\"h\"}]"}`))
	if err != nil {
		t.Fatal(err)
	}
	form, err := DecodeForm([]byte(`model=m&prompt=x&stream=true&temperature=0.2&max_tokens=5&seed=-3&reasoning=false&stop=a&top_k=&logit_bias=%7B%227%22%3A-1%7D&format=%7B%22type%22%3A%22object%22%7D&history=%5B%7B%22role%22%3A%22user%22%2C%22text%22%3A%22h%22%7D%5D`))
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(texts, want) || !reflect.DeepEqual(form, want) {
		t.Errorf("\ntypes %+v\ntexts %+v\nform  %+v", want, texts, form)
	}
	if c, err := DecodeForm([]byte(` {"model":"m","prompt":"x"}`)); err != nil || c.Turns[0].Text() != "x" {
		t.Errorf("JSON that is said to be a form: %+v, %v", c, err)
	}
	// A prompt is a text, whatever it looks like.
	for _, prompt := range []string{`true`, `[1]`, `{"a":1}`} {
		c, err := DecodeForm([]byte("model=m&prompt=" + prompt))
		if err != nil || c.Turns[0].Text() != prompt {
			t.Errorf("%s: %+v, %v", prompt, c, err)
		}
	}
}

// A form in parts says what an ordinary one says; files are refused.
func TestMultipart(t *testing.T) {
	part := func(disposition, text string) string {
		return "--x\r\nContent-Disposition: form-data; " + disposition + "\r\n\r\n" + text + "\r\n"
	}
	whole := part(`name="model"`, "m") + part(`name="prompt"`, "When is the last boat?") + part(`name="max_tokens"`, "5") + part(`name="stop"`, "a") + part(`name="stop"`, "b") + "--x--\r\n"
	c, err := DecodeMultipart([]byte(whole), "x")
	if err != nil || c.Model != "m" || c.Turns[0].Text() != "When is the last boat?" || c.MaxTokens != 5 || len(c.Stop) != 2 {
		t.Errorf("%+v, %v", c, err)
	}
	for want, body := range map[string]string{
		"not a form":            "--x\r\nnothing",
		"is a file":             part(`name="prompt"; filename="a.txt"`, "x") + "--x--\r\n",
		"no field \"verse\"":    part(`name="model"`, "m") + part(`name="prompt"`, "p") + part(`name="verse"`, "x") + "--x--\r\n",
		"more than 64 parts":    strings.Repeat(part(`name="stop"`, "x"), 65) + "--x--\r\n",
		"longer than 1048576 b": part(`name="prompt"`, strings.Repeat("x", 1<<20+1)) + "--x--\r\n",
	} {
		if _, err := DecodeMultipart([]byte(body), "x"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, not %q", err, want)
		}
	}
	if _, err := DecodeMultipart([]byte(whole), ""); err == nil || !strings.Contains(err.Error(), "no boundary") {
		t.Error(err)
	}
}

func FuzzDecode(f *testing.F) {
	for _, s := range []string{
		`{"model":"m","prompt":"x","format":{"type":"string"},"history":"[]"}`, `model=m&prompt=x&stop=a&stop=b`, `{"model":"m","prompt":"x","temperature":"{"}`, `format=%7B&model=m&prompt=x`, `a=%ff&model=m`, "--x\r\nContent-Disposition: form-data; name=\"prompt\"\r\n\r\nx\r\n--x--",
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		for _, decode := range []func([]byte) (*Call, error){Decode, DecodeForm, func(b []byte) (*Call, error) { return DecodeMultipart(b, "x") }} {
			c, err := decode(body)
			if err != nil {
				if e := exchange.AsError(err); e.Kind != exchange.Invalid || e.Message == "" {
					t.Errorf("%q: %v", body, err)
				}
				continue
			}
			if last := c.Turns[len(c.Turns)-1]; last.Role != exchange.User || last.Text() == "" {
				t.Errorf("%q: %+v", body, c)
			}
		}
	})
}

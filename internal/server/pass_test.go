package server

import (
	"bytes"
	"mime/multipart"
	"net/http"
	"strings"
	"testing"

	"kindredgate/internal/runner/scripted"
)

const boundary = "b0undary"

// form is a form of parts, each its head, an empty line, and its content.
func form(parts ...string) passedForm {
	var b strings.Builder
	for _, p := range parts {
		b.WriteString("--" + boundary + "\r\n" + strings.ReplaceAll(p, "\n", "\r\n") + "\r\n")
	}
	b.WriteString("--" + boundary + "--\r\n")
	return passedForm{raw: []byte(b.String()), boundary: boundary}
}

// What is passed on names its model once, in a way that every parser reads alike: else a key could have a machine run a model that it may not use.
func TestTheModelOfWhatIsPassedOn(t *testing.T) {
	part := func(name, content string) string {
		return "Content-Disposition: form-data; name=\"" + name + "\"\n\n" + content
	}
	for what, c := range map[string]struct {
		form        passedForm
		model, fail string
	}{
		"JSON":                {passedForm{raw: []byte(`{"model": "a", "prompt": "x"}`)}, "a", ""},
		"no model":            {passedForm{raw: []byte(`{"prompt": "x"}`)}, "", ""},
		"twice":               {passedForm{raw: []byte(`{"model": "a", "model": "b"}`)}, "", "appears twice"},
		"written otherwise":   {passedForm{raw: []byte(`{"model": "a", "mod\u0065l": "b"}`)}, "", "appears twice"},
		"other letters":       {passedForm{raw: []byte(`{"model": "a", "Model": "b"}`)}, "", "some servers take for"},
		"no text":             {passedForm{raw: []byte(`{"model": ["a"]}`)}, "", "must be a string"},
		"not JSON":            {passedForm{raw: []byte(`{"model":`)}, "", "not JSON"},
		"a form":              {form(part("model", "a"), "Content-Disposition: form-data; name=\"file\"; filename=\"a;b.wav\"\nContent-Type: audio/wav\n\nxx"), "a", ""},
		"a form without":      {form(part("prompt", "x")), "", ""},
		"a form, twice":       {form(part("model", "a"), part("model", "b")), "", "2 times"},
		"a form, in capitals": {form(part("model", "a"), part("MODEL", "b")), "", "some servers take for"},
		"escaped":             {form(part("model", "a"), "Content-Disposition: form-data; name=\"mode\\l\"\n\nb"), "", "without escapes"},
		"by percents":         {form(part("model", "a"), part("mode%6c", "b")), "", "without escapes"},
		"extended":            {form(part("model", "a"), "Content-Disposition: form-data; name*=utf-8''model\n\nb"), "", "without escapes"},
		"two names":           {form("Content-Disposition: form-data; name=\"x\"; name=\"model\"\n\nb"), "", "without escapes"},
		"two headers":         {form("Content-Disposition: form-data; name=\"x\"\nContent-Disposition: form-data; name=\"model\"\n\nb"), "", "2 Content-Disposition"},
		"no header":           {form("Content-Type: text/plain\n\nb"), "", "0 Content-Disposition"},
		"encoded":             {form("Content-Disposition: form-data; name=\"model\"\nContent-Transfer-Encoding: quoted-printable\n\n=61"), "", "encoded as"},
		"a file":              {form("Content-Disposition: form-data; name=\"model\"; filename=\"x\"\n\na"), "", "no file"},
		"very long":           {form(part("model", strings.Repeat("x", 2000))), "", "short field"},
	} {
		model, err := c.form.model()
		if c.fail == "" && (err != nil || model != c.model) || c.fail != "" && (err == nil || !strings.Contains(err.Error(), c.fail)) {
			t.Errorf("%s: %q, %v, want %q %q", what, model, err, c.model, c.fail)
		}
	}
}

// Whatever is let through has the machine's name for the model in it, and no other.
func FuzzPassedForm(f *testing.F) {
	f.Add(form("Content-Disposition: form-data; name=\"model\"\n\na", "Content-Disposition: form-data; name=\"file\"; filename=\"x\"\n\n\x00\xff").raw, true)
	f.Add([]byte(`{"model": "a", "x": [1, {"model": "b"}]}`), false)
	f.Fuzz(func(t *testing.T, raw []byte, isForm bool) {
		one := passedForm{raw: raw}
		if isForm {
			one.boundary = boundary
		}
		model, err := one.model()
		if err != nil || model == "" {
			return
		}
		out, err := one.withModel("there")
		if err != nil {
			return // the form ends in the middle of a part
		}
		again := one
		again.raw = out
		if now, err := again.model(); err != nil || now != "there" {
			t.Fatalf("%q became %q, which names %q, %v", raw, out, now, err)
		}
		if isForm {
			read, err := multipart.NewReader(bytes.NewReader(out), boundary).ReadForm(1 << 20)
			if err != nil || len(read.Value["model"]) != 1 || read.Value["model"][0] != "there" {
				t.Fatalf("%q is read as %+v, %v", out, read, err)
			}
		}
	})
}

// What a proxy says of who asks counts as it says it last: who asked the proxy may have said something else before.
func TestForwardedByTheProxyItself(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye}, func(o *Options) { o.Exposure.TrustedProxies = []string{"127.0.0.1"} })
	key, _ := h.issueWith(t, `{"label":"bot","addresses":["192.0.2.7"]}`)
	for _, c := range []struct {
		lines []string
		want  int
	}{{[]string{"192.0.2.7"}, 200}, {[]string{"192.0.2.7, 198.51.100.1"}, 403}, {[]string{"192.0.2.7", "198.51.100.1"}, 403}, {[]string{"198.51.100.1", "192.0.2.7"}, 200}, {nil, 403}} {
		req, err := http.NewRequest("GET", h.url+"/v1/models", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+key)
		req.Header.Set("X-Real-Ip", "192.0.2.7") // which no proxy is asked to send
		for _, line := range c.lines {
			req.Header.Add("X-Forwarded-For", line)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != c.want {
			t.Errorf("%q: %d, want %d", c.lines, resp.StatusCode, c.want)
		}
	}
}

package server

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"regexp"
	"strings"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/dialect"
	"kindredgate/internal/dialect/field"
	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/remote"
)

// passedWhat is what stands behind an endpoint in a path, such as generations.
var passedWhat = regexp.MustCompile(`^[a-z_]{1,40}$`)

// passOn answers an endpoint that only other machines have: the request goes on as it is, but for the name of the model.
func (s *Server) passOn(style dialect.Style) handler {
	return func(c *gin.Context) (any, error) {
		path := string(style)
		if what := c.Param("what"); what != "" {
			if !passedWhat.MatchString(what) {
				return s.noRoute(c)
			}
			path += "/" + what
		}
		raw, err := body(c)
		if err != nil {
			return nil, err
		}
		kind, params, err := mime.ParseMediaType(c.GetHeader("Content-Type"))
		if jsonish(raw) {
			kind, params, err = "application/json", nil, nil
		}
		if err != nil || !remote.Passable(kind) {
			return nil, exchange.Errorf(exchange.Invalid, "unsupported_content_type", "the body must be JSON or a form (multipart/form-data); its Content-Type is %q", c.GetHeader("Content-Type"))
		}
		form := passedForm{raw: raw, contentType: "application/json"}
		if strings.EqualFold(kind, "multipart/form-data") {
			form.boundary, form.contentType = params["boundary"], c.GetHeader("Content-Type")
		}
		model, err := form.model()
		if err != nil {
			return nil, err
		}
		from := origin(c, style)
		begun := false
		err = s.Gate.PassOn(c.Request.Context(), callerOf(c), from, model, func(ctx context.Context, m *remote.Machine, there string, via []string) (bool, error) {
			out, err := form.withModel(there)
			if err != nil {
				return false, err
			}
			err = m.Pass(ctx, remote.Passed{Path: path, ContentType: form.contentType, Body: out, Accept: c.GetHeader("Accept"), Via: via, Trace: from.Trace}, func(h http.Header) {
				begun = true
				for name := range h {
					c.Header(name, h.Get(name))
				}
				limitHeaders(c)
				c.Header("Cache-Control", "no-cache")
				c.Status(http.StatusOK)
			}, func(p []byte) error {
				_, err := c.Writer.Write(p)
				c.Writer.Flush()
				return err
			})
			return begun, err
		})
		if err != nil && begun {
			_ = c.Error(err)
			panic(http.ErrAbortHandler) // which is how a client is told that what has come is not complete
		}
		return nil, err
	}
}

// passedForm is a body in which the model is named.
type passedForm struct {
	raw                   []byte
	boundary, contentType string // of a form; "" for JSON
}

// Bounds of forms.
const (
	mostFormParts = 64
	longModelName = 1024
)

func (f passedForm) unreadable(err error) error {
	return exchange.Errorf(exchange.Invalid, "invalid_body", "the body cannot be read: %v", err)
}

// model is the name of the model; "" if there is none. It must stand there once and so that every parser reads the same: a key may use some
// models, and what is read here must be what the machine reads.
func (f passedForm) model() (string, error) {
	if f.boundary == "" {
		o, err := field.Parse(f.raw) // in which no key is there twice
		if err != nil {
			return "", err
		}
		for _, name := range o.Unread() {
			if name != modelField && strings.EqualFold(name, modelField) {
				return "", exchange.InvalidParam(name, "there is a field %q, which some servers take for %q; leave it out", name, modelField)
			}
		}
		model, _ := o.String(modelField)
		return model, o.Err()
	}
	var named []string
	err := f.parts(func(p *multipart.Part) error {
		if p.FormName() != modelField {
			return nil
		}
		raw, err := io.ReadAll(io.LimitReader(p, longModelName+1))
		if err == nil && (len(raw) > longModelName || p.FileName() != "") {
			err = errors.New("the model must be a short field, and no file")
		}
		named = append(named, string(raw))
		return err
	})
	if err == nil && len(named) > 1 {
		err = exchange.InvalidParam(modelField, "the form names a model %d times; name it once", len(named))
	}
	return strings.Join(named, ""), err
}

const modelField = "model"

func (f passedForm) parts(each func(*multipart.Part) error) error {
	r := multipart.NewReader(bytes.NewReader(f.raw), f.boundary)
	for n := 0; ; n++ {
		p, err := r.NextRawPart()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil && n == mostFormParts {
			return exchange.Errorf(exchange.Invalid, "invalid_body", "the form has more than %d parts", mostFormParts)
		}
		if err == nil {
			err = plainPart(p)
		}
		if err == nil {
			err = each(p)
		}
		var known *exchange.Error
		if errors.As(err, &known) {
			return known
		}
		if err != nil {
			return f.unreadable(err)
		}
	}
}

// plainName is a field's name as it needs no escapes, which parsers read in different ways.
var plainName = regexp.MustCompile(`(?i)^form-data;\s*name=(?:"([A-Za-z0-9_.\[\]-]+)"|([A-Za-z0-9_.-]+))\s*(?:;\s*filename\*?=(?:"(?:[^"\\]|\\.)*"|[^;"]*)\s*)*$`)

// plainPart refuses a part of a form whose name can be read in several ways (RFC 7578, sections 4.2 and 5.1), or whose content is encoded.
func plainPart(p *multipart.Part) error {
	said := p.Header.Values("Content-Disposition")
	if len(said) != 1 {
		return fmt.Errorf("a part has %d Content-Disposition headers", len(said))
	}
	m := plainName.FindStringSubmatch(strings.TrimSpace(said[0]))
	if m == nil || m[1]+m[2] != p.FormName() {
		return fmt.Errorf("a part says what it is as %.100q; write form-data; name=\"…\", and for a file filename=\"…\" behind that, without escapes in the name", said[0])
	}
	if p.FormName() != modelField && strings.EqualFold(p.FormName(), modelField) {
		return fmt.Errorf("there is a field %q, which some servers take for %q", p.FormName(), modelField)
	}
	switch encoding := strings.ToLower(p.Header.Get("Content-Transfer-Encoding")); encoding {
	case "", "7bit", "8bit", "binary":
		return nil
	default:
		return fmt.Errorf("a part is encoded as %.40q", encoding)
	}
}

// withModel is the body with the model's name on the machine; nothing is changed if there is none.
func (f passedForm) withModel(there string) ([]byte, error) {
	if f.boundary == "" {
		var o map[string]json.RawMessage
		if err := json.Unmarshal(f.raw, &o); err != nil {
			return nil, f.unreadable(err)
		}
		if _, named := o["model"]; !named || there == "" {
			return f.raw, nil
		}
		name, err := json.Marshal(there)
		if err != nil {
			return nil, err
		}
		o["model"] = name
		return json.Marshal(o)
	}
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	if err := w.SetBoundary(f.boundary); err != nil {
		return nil, f.unreadable(err)
	}
	err := f.parts(func(p *multipart.Part) error {
		out, err := w.CreatePart(p.Header)
		if err != nil {
			return err
		}
		if p.FormName() == "model" && there != "" {
			_, err = io.WriteString(out, there)
			return err
		}
		_, err = io.Copy(out, p)
		return err
	})
	if err == nil {
		err = w.Close()
	}
	return b.Bytes(), err
}

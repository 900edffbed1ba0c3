package server

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"mime"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/zstd"

	"kindredgate/internal/dialect"
	"kindredgate/internal/dialect/field"
	"kindredgate/internal/exchange"
)

// body reads a request's body, up to the limit, and unpacks it if it is compressed.
func body(c *gin.Context) ([]byte, error) {
	raw, err := readAll(c, http.MaxBytesReader(c.Writer, c.Request.Body, maxBody))
	if err == nil {
		raw, err = unpacked(c, c.GetHeader("Content-Encoding"), raw)
	}
	if err == nil && c.Request.Context().Err() != nil {
		err = context.Cause(c.Request.Context()) // nobody waits for what would be made of it
	}
	c.Set(bodyKey, raw) // for the owner to look at, if it is refused
	var tooLarge *http.MaxBytesError
	var known *exchange.Error
	if err != nil && !errors.As(err, &tooLarge) && !errors.As(err, &known) {
		return nil, exchange.Errorf(exchange.Invalid, "body_incomplete", "the body could not be read to its end: %v", err)
	}
	return raw, err
}

// unpacked undoes a compression of a body (RFC 9110, section 8.4), as far as the limit of bodies.
func unpacked(c *gin.Context, encoding string, raw []byte) ([]byte, error) {
	wrong := func(err error) error {
		return exchange.Errorf(exchange.Invalid, "invalid_encoding", "the body is not what its Content-Encoding %q says: %v", encoding, err)
	}
	var r io.Reader
	switch strings.ToLower(strings.TrimSpace(encoding)) {
	case "", "identity":
		return raw, nil
	case "gzip", "x-gzip":
		z, err := gzip.NewReader(bytes.NewReader(raw))
		if err != nil {
			return nil, wrong(err)
		}
		defer z.Close()
		r = z
	case "zstd":
		z, err := zstd.NewReader(bytes.NewReader(raw), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxWindow))
		if err != nil {
			return nil, wrong(err)
		}
		defer z.Close()
		r = z
	default:
		return nil, exchange.Errorf(exchange.Invalid, "unsupported_encoding", "the body has the Content-Encoding %q; gzip and zstd are understood, or none", encoding)
	}
	plain, err := readAll(c, io.LimitReader(r, maxBody+1))
	var full *exchange.Error
	switch {
	case errors.As(err, &full):
		return nil, full
	case err != nil:
		return nil, wrong(err)
	case len(plain) > maxBody:
		return nil, exchange.Errorf(exchange.TooLarge, "body_too_large", "the body is longer than %d bytes when it is unpacked", maxBody)
	}
	return plain, nil
}

// maxWindow is how far back a compressed body may refer, in bytes: what every decoder of zstd has to support (RFC 8878, section 3.1.1.1.2).
const maxWindow = 8 << 20

// object reads a body that is a JSON object.
func object(c *gin.Context) (*field.Object, error) {
	raw, err := body(c)
	if err != nil {
		return nil, err
	}
	return field.Parse(raw)
}

// onlyKnown refuses fields that mean nothing: in our own interface they are mistakes.
func onlyKnown(o *field.Object) error {
	for _, name := range o.Unread() {
		o.Fail(name, "there is no field %q here", name)
	}
	return o.Err()
}

// decoded reads a body and decodes it.
func decoded[T any](c *gin.Context, decode func([]byte) (T, error)) (call T, err error) {
	raw, err := body(c)
	if err == nil {
		if call, err = decode(raw); err != nil {
			err = insteadOfJSON(c, raw, err)
		}
	}
	return call, err
}

// insteadOfJSON says of a body that is no JSON what it is, if its type tells.
func insteadOfJSON(c *gin.Context, raw []byte, err error) error {
	kind, _, _ := mime.ParseMediaType(c.ContentType())
	if exchange.AsError(err).Code != "invalid_json" || kind != formType && kind != multipartType || jsonish(raw) {
		return err // some clients, and curl, name a form's type whatever they send
	}
	if kind == multipartType {
		return exchange.Errorf(exchange.Invalid, "unsupported_media_type", "the body is a form in several parts (%s), which this endpoint does not take; send JSON, or the form to /v1%s with the field prompt", kind, dialect.Generate.Path())
	}
	return exchange.Errorf(exchange.Invalid, "unsupported_media_type", "the body is a form (%s), which this endpoint does not take; send JSON, or the form to /v1%s with the field prompt", kind, dialect.Generate.Path())
}

// jsonish reports whether a body begins as JSON does, whatever its type says.
func jsonish(raw []byte) bool {
	raw = bytes.TrimSpace(bytes.TrimPrefix(raw, []byte("\ufeff")))
	return len(raw) > 0 && (raw[0] == '{' || raw[0] == '[')
}

// Media types of forms.
const (
	formType      = "application/x-www-form-urlencoded"
	multipartType = "multipart/form-data"
)

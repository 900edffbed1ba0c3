// Package picture reads pictures that strangers send: what they are by their first bytes, what decoding them would take, and
// their pixels as rows of RGB, turned as the camera was held and resized as models are trained with.
package picture

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"image"
	"image/gif"
	"image/jpeg"
	"image/png"
	"io"
	"regexp"
	"strings"

	"golang.org/x/image/webp"
)

// Kind is how a picture is written.
type Kind string

// The kinds that can be read.
const (
	PNG  Kind = "PNG"
	JPEG Kind = "JPEG"
	GIF  Kind = "GIF"
	WebP Kind = "WebP"
)

// The limits that hold where nothing else is said.
const (
	maxSide       = 32767
	maxScans      = 100       // of a JPEG, each of which may go over all pixels for a few bytes; about ten are usual
	DefaultMemory = 256 << 20 // bytes that decoding a picture may take
)

// Error says why a picture cannot be read.
type Error struct {
	Large  bool // it is readable, and larger than is allowed
	Reason string
}

func (e *Error) Error() string { return e.Reason }

func unreadable(format string, args ...any) error {
	return &Error{Reason: fmt.Sprintf(format, args...)}
}

// Header is what is known of a picture before its pixels are.
type Header struct {
	Kind          Kind
	Width, Height int // pixels, after turning
	Bytes         int // of the file
	Sum           [sha256.Size]byte
	Memory        int64 // bytes that decoding takes, about

	orientation int // of Exif, 1 to 8
}

// Look reads the header of a picture. It decodes nothing, and refuses what decoding would take more than memory bytes for. Errors are an
// *[Error].
func Look(data []byte, memory int64) (*Header, error) {
	if len(data) == 0 {
		return nil, unreadable("it is empty")
	}
	h := &Header{Bytes: len(data), Sum: sha256.Sum256(data)}
	var config image.Config
	var err error
	h.Kind, config, err = configure(data)
	if err != nil {
		return nil, err
	}
	w, t := config.Width, config.Height
	if w < 1 || t < 1 || w > maxSide || t > maxSide {
		return nil, &Error{Large: w > maxSide || t > maxSide, Reason: fmt.Sprintf("it is %d × %d pixels; sides of 1 to %d are possible", w, t, maxSide)}
	}
	if h.Kind == JPEG {
		if n := scans(data); n > maxScans {
			return nil, unreadable("it comes in %d scans; %d are possible", n, maxScans)
		}
	}
	h.orientation = orientation(h.Kind, data)
	h.Memory = int64(w) * int64(t) * perPixel(h.Kind, data)
	if h.Width, h.Height = w, t; h.turns() {
		h.Width, h.Height = t, w
		h.Memory += 3 * int64(w) * int64(t) // a copy, since rows become columns
	}
	if h.Memory > memory {
		return nil, &Error{Large: true, Reason: fmt.Sprintf("decoding its %d × %d pixels takes %d MiB; at most %d MiB are allowed", w, t, (h.Memory+1<<20-1)>>20, memory>>20)}
	}
	return h, nil
}

// turns reports whether rows become columns.
func (h *Header) turns() bool { return h.orientation >= 5 }

func configure(data []byte) (kind Kind, c image.Config, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = unreadable("it is not a whole picture")
		}
	}()
	r := bytes.NewReader(data)
	switch {
	case bytes.HasPrefix(data, []byte("\x89PNG\r\n\x1a\n")):
		kind = PNG
		c, err = png.DecodeConfig(r)
	case bytes.HasPrefix(data, []byte("\xff\xd8\xff")):
		kind = JPEG
		c, err = jpeg.DecodeConfig(r)
	case bytes.HasPrefix(data, []byte("GIF87a")), bytes.HasPrefix(data, []byte("GIF89a")):
		kind = GIF
		c, err = gif.DecodeConfig(r)
	case len(data) >= 12 && string(data[:4]) == "RIFF" && string(data[8:12]) == "WEBP":
		kind = WebP
		c, err = webp.DecodeConfig(r)
	default:
		return "", c, unreadable("it is no picture of a kind that can be read: PNG, JPEG, GIF or WebP")
	}
	if err != nil {
		return kind, c, unreadable("its header is not whole: %v", err)
	}
	return kind, c, nil
}

// perPixel is how many bytes decoding takes for each pixel, by what the decoders were seen to take.
func perPixel(kind Kind, data []byte) int64 {
	switch kind {
	case PNG:
		n := int64(4)
		if len(data) > 24 && data[24] == 16 {
			n = 8
		}
		if len(data) > 28 && data[28] != 0 { // in seven passes
			n *= 2
		}
		return n
	case JPEG:
		if progressive(data) {
			return 15
		}
		return 4
	case GIF:
		return 2
	case WebP:
	}
	return 8
}

// progressive reports whether a JPEG comes in several scans, whose coefficients are all kept.
func progressive(data []byte) bool {
	found := false
	segments(data, func(marker byte, _ []byte) bool {
		found = found || marker == 0xc2
		return marker == 0xc0 || marker == 0xc1 || marker == 0xc2
	})
	return found
}

// scans counts how often a JPEG goes over its pixels: it finds the markers that the decoder finds, which steps over none.
func scans(data []byte) (n int) {
	for at := 2; at+4 <= len(data); {
		marker := data[at+1]
		switch {
		case data[at] != 0xff, marker == 0xff:
			at++
		case marker == 0, marker >= 0xd0 && marker <= 0xd7: // within pixels
			at += 2
		case marker == 0xd9:
			return n
		default:
			if marker == 0xda {
				n++
			}
			at += 2 + int(data[at+2])<<8 + int(data[at+3])
		}
	}
	return n
}

// segments goes through a JPEG's segments until one stops it, or the pixels begin.
func segments(data []byte, stop func(marker byte, body []byte) bool) {
	for at := 2; at+4 <= len(data); {
		if data[at] != 0xff {
			return
		}
		marker := data[at+1]
		if marker == 0xff { // filling
			at++
			continue
		}
		if marker == 0xd9 || marker == 0xda {
			return
		}
		n := int(data[at+2])<<8 | int(data[at+3])
		if n < 2 || at+2+n > len(data) || stop(marker, data[at+4:at+2+n]) {
			return
		}
		at += 2 + n
	}
}

// Decode reads the pixels of a picture whose header is known. It ends, with its cause, when ctx does.
func Decode(ctx context.Context, data []byte, h *Header) (p *Pixels, err error) {
	defer func() {
		if r := recover(); r != nil {
			p, err = nil, unreadable("it is not a whole picture")
		}
	}()
	r := &bounded{ctx: ctx, r: bytes.NewReader(data)}
	var m image.Image
	switch h.Kind {
	case PNG:
		m, err = png.Decode(r)
	case JPEG:
		m, err = jpeg.Decode(r)
	case GIF:
		m, err = gif.Decode(r)
	case WebP:
		m, err = webp.Decode(r)
	default:
		return nil, unreadable("it has no header")
	}
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	if err != nil {
		return nil, unreadable("it is not a whole picture: %v", err)
	}
	width, height := h.Width, h.Height
	if h.turns() {
		width, height = height, width
	}
	row, err := rows(m, width, height)
	if err != nil {
		return nil, err
	}
	return turned(row, width, height, h.orientation), nil
}

// bounded ends reading when a context does.
type bounded struct {
	ctx context.Context
	r   io.Reader
}

func (b *bounded) Read(p []byte) (int, error) {
	if err := b.ctx.Err(); err != nil {
		return 0, err
	}
	return b.r.Read(p[:min(len(p), 64<<10)])
}

// form is how a data URL with a picture begins. What it is says the picture itself.
var form = regexp.MustCompile(`^(?i:data:image/[a-z0-9.+-]+;base64)$`)

// FromURL takes the bytes out of a data URL. The letters of both alphabets and line breaks are understood.
func FromURL(url string) ([]byte, error) {
	head, body, ok := strings.Cut(url, ",")
	if !form.MatchString(head) || !ok {
		return nil, errors.New("it must be of the form data:image/png;base64,…")
	}
	clean := make([]byte, 0, len(body))
	for i := 0; i < len(body); i++ {
		switch c := body[i]; {
		case c == '-':
			clean = append(clean, '+')
		case c == '_':
			clean = append(clean, '/')
		case c == '\n' || c == '\r' || c == ' ' || c == '\t':
		case c == '=':
			if end := body[i:]; strings.Trim(end, "=\r\n \t") != "" || strings.Count(end, "=") > 2 {
				return nil, fmt.Errorf("it is not base64 at byte %d", i)
			}
		case c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '+' || c == '/':
			clean = append(clean, c)
		default:
			return nil, fmt.Errorf("it is not base64 at byte %d", i)
		}
	}
	if len(clean) == 0 {
		return nil, errors.New("it is empty")
	}
	n, err := base64.RawStdEncoding.Decode(clean, clean)
	if err != nil {
		return nil, errors.New("its base64 ends within a byte")
	}
	return clean[:n], nil
}

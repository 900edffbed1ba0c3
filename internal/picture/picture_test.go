package picture

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func read(t testing.TB, path string) []byte {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join("testdata", path))
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// pixels decodes a picture.
func pixels(t testing.TB, raw []byte) *Pixels {
	t.Helper()
	h, err := Look(raw, DefaultMemory)
	if err != nil {
		t.Fatal(err)
	}
	p, err := Decode(t.Context(), raw, h)
	if err != nil {
		t.Fatal(err)
	}
	if p.Width != h.Width || p.Height != h.Height {
		t.Fatalf("the header says %d × %d, and %d × %d come", h.Width, h.Height, p.Width, p.Height)
	}
	return p
}

func differ(a, b []byte) (most int) {
	if len(a) != len(b) {
		return 256
	}
	for i := range a {
		most = max(most, int(a[i])-int(b[i]), int(b[i])-int(a[i]))
	}
	return most
}

// What is decoded equals what another library made of the same files.
func TestDecode(t *testing.T) {
	var list struct {
		Cases []struct {
			File, Expected string
			Width, Height  int
			Tolerance      int
		}
		Refused []struct{ File, Why string }
	}
	if err := json.Unmarshal(read(t, "decode/cases.json"), &list); err != nil {
		t.Fatal(err)
	}
	if len(list.Cases) < 18 || len(list.Refused) < 6 {
		t.Fatal(len(list.Cases), len(list.Refused))
	}
	for _, c := range list.Cases {
		if c.Expected == "" {
			continue
		}
		t.Run(c.File, func(t *testing.T) {
			got, want := pixels(t, read(t, "decode/"+c.File)), pixels(t, read(t, "decode/"+c.Expected))
			if got.Width != c.Width || got.Height != c.Height {
				t.Fatalf("%d × %d, want %d × %d", got.Width, got.Height, c.Width, c.Height)
			}
			if most := differ(got.RGB(), want.RGB()); most > c.Tolerance {
				t.Errorf("a byte differs by %d, at most %d is right", most, c.Tolerance)
			}
		})
	}
	for _, c := range list.Refused {
		raw := read(t, "decode/"+c.File)
		h, err := Look(raw, DefaultMemory)
		if err == nil {
			_, err = Decode(t.Context(), raw, h)
		}
		if e := (*Error)(nil); !errors.As(err, &e) {
			t.Errorf("%s, which %s: %v", c.File, c.Why, err)
		}
	}
}

// A JPEG that goes over its pixels again and again for a few bytes each is refused before it is decoded.
func TestScansAreBounded(t *testing.T) {
	raw := read(t, "decode/progressive.jpg")
	few := scans(raw)
	if few < 2 || few > 20 || scans(read(t, "decode/colour.jpg")) != 1 {
		t.Fatalf("%d scans", few)
	}
	last := bytes.LastIndex(raw, []byte{0xff, 0xda})
	scan := bytes.TrimSuffix(raw[last:], []byte{0xff, 0xd9})
	for n, refused := range map[int]bool{maxScans - few: false, maxScans - few + 1: true} {
		_, err := Look(append(slices.Concat(raw[:last], bytes.Repeat(scan, n+1)), 0xff, 0xd9), DefaultMemory)
		if (err != nil) != refused || refused && !strings.Contains(err.Error(), "scans") {
			t.Errorf("%d scans more: %v", n, err)
		}
	}
}

// Resized bytes are exact.
func TestResize(t *testing.T) {
	var list struct {
		Cases []struct {
			File, Filter, Expected string
			Width, Height          int
		}
	}
	if err := json.Unmarshal(read(t, "resize/cases.json"), &list); err != nil {
		t.Fatal(err)
	}
	if len(list.Cases) < 18 {
		t.Fatal(len(list.Cases))
	}
	for _, c := range list.Cases {
		got, err := pixels(t, read(t, "resize/"+c.File)).Resize(t.Context(), c.Width, c.Height, image.Rect(0, 0, c.Width, c.Height), map[string]Filter{"bilinear": Bilinear, "bicubic": Bicubic}[c.Filter])
		if err != nil {
			t.Fatal(err)
		}
		if most := differ(got, pixels(t, read(t, "resize/"+c.Expected)).RGB()); most > 0 {
			t.Errorf("%s by %s to %d × %d: a byte differs by %d", c.File, c.Filter, c.Width, c.Height, most)
		}
	}
}

// Pictures of more kinds than the files have, made here: 16 bits with alpha, four inks, each way of sharing colours.
func TestKindsOfPixels(t *testing.T) {
	deep := image.NewNRGBA64(image.Rect(0, 0, 3, 2))
	deep.SetNRGBA64(1, 1, color.NRGBA64{0x1234, 0x5678, 0x9abc, 0x1000})
	var b bytes.Buffer
	if err := png.Encode(&b, deep); err != nil {
		t.Fatal(err)
	}
	if got := pixels(t, b.Bytes()).RGB()[3*(3+1):][:3]; !bytes.Equal(got, []byte{0x12, 0x56, 0x9a}) {
		t.Errorf("16 bits with alpha: %x", got)
	}
	clear := image.NewNYCbCrA(image.Rect(0, 0, 5, 5), image.YCbCrSubsampleRatio422)
	for i := range clear.A {
		clear.A[i] = 255
	}
	for _, m := range []image.Image{image.NewCMYK(image.Rect(0, 0, 2, 2)), image.NewYCbCr(image.Rect(0, 0, 5, 5), image.YCbCrSubsampleRatio420), image.NewYCbCr(image.Rect(0, 0, 9, 5), image.YCbCrSubsampleRatio410),
		image.NewYCbCr(image.Rect(0, 0, 5, 5), image.YCbCrSubsampleRatio440), clear, image.NewRGBA64(image.Rect(0, 0, 2, 2))} {
		size := m.Bounds().Size()
		row, err := rows(m, size.X, size.Y)
		if err != nil {
			t.Fatal(err)
		}
		got := (&Pixels{size.X, size.Y, row}).RGB()
		r, g, bl, _ := color.NRGBAModel.Convert(m.At(1, 1)).RGBA()
		if _, cmyk := m.(*image.CMYK); !cmyk && bytes.Equal(got, make([]byte, len(got))) != (r+g+bl == 0) {
			t.Errorf("%T: %v", m, got[:6])
		}
	}
	if _, err := rows(image.NewUniform(color.Black), 1, 1); err == nil {
		t.Error("an endless picture is read")
	}
}

func TestLookRefuses(t *testing.T) {
	whole := read(t, "decode/rgb.png")
	if _, err := Look(whole, 1000); err == nil || !err.(*Error).Large || !strings.Contains(err.Error(), "takes 1 MiB; at most 0 MiB") {
		t.Errorf("a limit of 1,000 bytes: %v", err)
	}
	if _, err := Look([]byte("%PDF-1.7"), DefaultMemory); err == nil || !strings.Contains(err.Error(), "PNG, JPEG, GIF or WebP") {
		t.Errorf("a document: %v", err)
	}
	h, err := Look(whole, DefaultMemory)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancelCause(t.Context())
	left := errors.New("the client has left")
	cancel(left)
	if _, err := Decode(ctx, whole, h); !errors.Is(err, left) {
		t.Errorf("decoding after the client has left: %v", err)
	}
	if _, err := pixels(t, whole).Resize(ctx, 5, 5, image.Rect(0, 0, 5, 5), Bicubic); !errors.Is(err, left) {
		t.Errorf("resizing after the client has left: %v", err)
	}
}

func TestFromURL(t *testing.T) {
	raw := []byte{0xfb, 0xff, 0xfe, 0x00, 0x01}
	std := base64.StdEncoding.EncodeToString(raw)
	for name, url := range map[string]string{
		"as it is": "data:image/png;base64," + std, "the other alphabet": "DATA:Image/PNG;base64," + base64.URLEncoding.EncodeToString(raw),
		"lines": "data:image/x;base64," + std[:3] + "\r\n" + std[3:] + "\n", "without its end": "data:image/png;base64," + strings.TrimRight(std, "="),
	} {
		if got, err := FromURL(url); err != nil || !bytes.Equal(got, raw) {
			t.Errorf("%s: %x, %v", name, got, err)
		}
	}
	for url, want := range map[string]string{
		"https://pictures.example/a.png": "of the form", "data:image/png,abc": "of the form", "data:image/png;base64": "of the form",
		"data:image/png;base64,AAAA*AAA": "at byte 4", "data:image/png;base64,AA=AAAAA": "at byte 2", "data:image/png;base64,A": "within a byte", "data:image/png;base64,": "empty", "data:text/plain;base64,AAAA": "of the form", "data:image/png;base64,AAAA===": "at byte 4",
	} {
		if _, err := FromURL(url); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", url, err, want)
		}
	}
}

func FuzzDecode(f *testing.F) {
	files, _ := filepath.Glob("testdata/decode/*")
	for _, path := range files {
		raw, err := os.ReadFile(path)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(raw)
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		const memory = 4 << 20
		h, err := Look(raw, memory)
		if err != nil {
			return
		}
		if h.Memory > memory || h.Width < 1 || h.Height < 1 {
			t.Fatalf("%+v", h)
		}
		if p, err := Decode(t.Context(), raw, h); err == nil {
			if _, err := p.Resize(t.Context(), 7, 5, image.Rect(0, 0, 7, 5), Bicubic); err != nil {
				t.Fatal(err)
			}
		}
	})
}

// BenchmarkThousand decodes a picture of 1,000 × 1,000 pixels and resizes it.
func BenchmarkThousand(b *testing.B) {
	for name, noise := range map[string]int{"photograph": 16, "noise": 256} { // shades with some noise, as photographs have them, and noise alone
		m := image.NewNRGBA(image.Rect(0, 0, 1000, 1000))
		for i := range m.Pix {
			m.Pix[i] = byte(i/4%1000/5 + i*i>>9%noise)
		}
		var asPNG, asJPEG bytes.Buffer
		if err := errors.Join(png.Encode(&asPNG, m), jpeg.Encode(&asJPEG, m, nil)); err != nil {
			b.Fatal(err)
		}
		for kind, raw := range map[string][]byte{"png": asPNG.Bytes(), "jpeg": asJPEG.Bytes()} {
			b.Run(kind+"/"+name, func(b *testing.B) {
				b.ReportAllocs()
				for b.Loop() {
					if _, err := pixels(b, raw).Resize(b.Context(), 896, 896, image.Rect(0, 0, 896, 896), Bicubic); err != nil {
						b.Fatal(err)
					}
				}
			})
		}
	}
}

package picture

import (
	"image"
	"image/color"
)

// Pixels are the pixels of a picture, as rows of RGB. Alpha is left out: colours are as they were stored.
type Pixels struct {
	Width, Height int
	row           func(y int, dst []byte) // [3*Width]
}

// RGB are all pixels, [Height][Width][3].
func (p *Pixels) RGB() []byte {
	all := make([]byte, 3*p.Width*p.Height)
	for y := range p.Height {
		p.row(y, all[3*p.Width*y:][:3*p.Width])
	}
	return all
}

// FromRGB makes pixels of [height][width][3].
func FromRGB(rgb []byte, width, height int) *Pixels {
	return &Pixels{width, height, func(y int, dst []byte) { copy(dst, rgb[3*width*y:]) }}
}

// rows gives the rows of an image as they are stored. Colours are never multiplied with alpha, as the usual ways of reading them do.
func rows(m image.Image, width, height int) (func(y int, dst []byte), error) {
	b := m.Bounds()
	if b.Dx() > width || b.Dy() > height || b.Min.X < 0 || b.Min.Y < 0 || b.Max.X > width || b.Max.Y > height {
		return nil, unreadable("it is %d × %d pixels, and its header says %d × %d", b.Dx(), b.Dy(), width, height)
	}
	var inner func(y int, dst []byte) // of the image's own width
	switch m := m.(type) {
	case *image.YCbCr:
		inner = func(y int, dst []byte) { ycbcr(m, b, y, dst) }
	case *image.NYCbCrA:
		inner = func(y int, dst []byte) { ycbcr(&m.YCbCr, b, y, dst) }
	case *image.NRGBA:
		inner = func(y int, dst []byte) { every(dst, m.Pix[m.PixOffset(b.Min.X, y):], 4, 1) }
	case *image.RGBA: // of pictures without alpha
		inner = func(y int, dst []byte) { every(dst, m.Pix[m.PixOffset(b.Min.X, y):], 4, 1) }
	case *image.NRGBA64:
		inner = func(y int, dst []byte) { every(dst, m.Pix[m.PixOffset(b.Min.X, y):], 8, 2) }
	case *image.RGBA64:
		inner = func(y int, dst []byte) { every(dst, m.Pix[m.PixOffset(b.Min.X, y):], 8, 2) }
	case *image.Gray:
		inner = func(y int, dst []byte) { grey(dst, m.Pix[m.PixOffset(b.Min.X, y):], 1) }
	case *image.Gray16:
		inner = func(y int, dst []byte) { grey(dst, m.Pix[m.PixOffset(b.Min.X, y):], 2) }
	case *image.CMYK:
		inner = func(y int, dst []byte) {
			p := m.Pix[m.PixOffset(b.Min.X, y):]
			for i := 0; i < len(dst); i += 3 {
				c := p[i/3*4:]
				dst[i], dst[i+1], dst[i+2] = color.CMYKToRGB(c[0], c[1], c[2], c[3])
			}
		}
	case *image.Paletted:
		palette := stored(m.Palette)
		inner = func(y int, dst []byte) {
			for i, at := range m.Pix[m.PixOffset(b.Min.X, y):][:len(dst)/3] {
				copy(dst[3*i:3*i+3], palette[at][:])
			}
		}
	default:
		return nil, unreadable("its pixels are of a kind that cannot be read")
	}
	return func(y int, dst []byte) {
		if y < b.Min.Y || y >= b.Max.Y { // the first frame of some need not fill the screen
			clear(dst)
			return
		}
		if b.Dx() < width {
			clear(dst)
		}
		inner(y, dst[3*b.Min.X:3*b.Max.X])
	}, nil
}

// stored are the colours of a palette as they are stored; black for places that it does not have.
func stored(p color.Palette) (list [256][3]byte) {
	for i, c := range p {
		if i >= len(list) {
			break
		}
		switch c := c.(type) {
		case color.NRGBA:
			list[i] = [3]byte{c.R, c.G, c.B}
		case color.RGBA:
			list[i] = [3]byte{c.R, c.G, c.B}
		default:
			r, g, b, _ := c.RGBA()
			list[i] = [3]byte{byte(r >> 8), byte(g >> 8), byte(b >> 8)}
		}
	}
	return list
}

// every takes the high bytes of three channels out of pixels of size bytes.
func every(dst, pix []byte, size, channel int) {
	for i, at := 0, 0; i < len(dst); i, at = i+3, at+size {
		dst[i], dst[i+1], dst[i+2] = pix[at], pix[at+channel], pix[at+2*channel]
	}
}

func grey(dst, pix []byte, size int) {
	for i, at := 0, 0; i < len(dst); i, at = i+3, at+size {
		dst[i], dst[i+1], dst[i+2] = pix[at], pix[at], pix[at]
	}
}

func ycbcr(m *image.YCbCr, b image.Rectangle, y int, dst []byte) {
	shared := 0 // a colour is shared by so many pixels, as a power of two
	switch m.SubsampleRatio {
	case image.YCbCrSubsampleRatio422, image.YCbCrSubsampleRatio420:
		shared = 1
	case image.YCbCrSubsampleRatio411, image.YCbCrSubsampleRatio410:
		shared = 2
	case image.YCbCrSubsampleRatio444, image.YCbCrSubsampleRatio440:
	}
	at, line := m.COffset(b.Min.X, y)-b.Min.X>>shared, m.Y[m.YOffset(b.Min.X, y):][:len(dst)/3]
	for i, v := range line {
		c := at + (b.Min.X+i)>>shared
		dst[3*i], dst[3*i+1], dst[3*i+2] = color.YCbCrToRGB(v, m.Cb[c], m.Cr[c])
	}
}

// turned turns rows as an orientation of Exif says (CIPA DC-008, "Orientation").
func turned(row func(y int, dst []byte), width, height, by int) *Pixels {
	mirror := func(dst []byte) {
		for i, j := 0, len(dst)-3; i < j; i, j = i+3, j-3 {
			for c := range 3 {
				dst[i+c], dst[j+c] = dst[j+c], dst[i+c]
			}
		}
	}
	switch by {
	case 2:
		return &Pixels{width, height, func(y int, dst []byte) { row(y, dst); mirror(dst) }}
	case 3:
		return &Pixels{width, height, func(y int, dst []byte) { row(height-1-y, dst); mirror(dst) }}
	case 4:
		return &Pixels{width, height, func(y int, dst []byte) { row(height-1-y, dst) }}
	case 5, 6, 7, 8:
		all := (&Pixels{width, height, row}).RGB()
		return &Pixels{height, width, func(y int, dst []byte) {
			x := y // the column that becomes this row, counted from the right for 7 and 8
			if by == 7 || by == 8 {
				x = width - 1 - y
			}
			for i := range height {
				from := i // and from below for 6 and 7
				if by == 6 || by == 7 {
					from = height - 1 - i
				}
				copy(dst[3*i:3*i+3], all[3*(from*width+x):])
			}
		}}
	}
	return &Pixels{width, height, row}
}

package picture

import (
	"bytes"
	"encoding/binary"
)

// maxExif is how much of what describes a picture is looked at.
const maxExif = 64 << 10

// orientation is how a picture has to be turned: 1, as it is, where it does not say, or says something else.
func orientation(kind Kind, data []byte) int {
	var exif []byte
	switch kind {
	case JPEG:
		segments(data, func(marker byte, body []byte) bool {
			rest, ok := bytes.CutPrefix(body, []byte("Exif\x00\x00"))
			if marker == 0xe1 && ok {
				exif = rest
			}
			return exif != nil
		})
	case PNG:
		for at := 8; at+12 <= len(data); {
			n := int64(binary.BigEndian.Uint32(data[at:]))
			name := string(data[at+4 : at+8])
			if name == "IDAT" || int64(at)+12+n > int64(len(data)) {
				break
			}
			if name == "eXIf" {
				exif = data[at+8:][:n]
				break
			}
			at += 12 + int(n)
		}
	case WebP:
		for at := 12; at+8 <= len(data); {
			n := int64(binary.LittleEndian.Uint32(data[at+4:]))
			if int64(at)+8+n > int64(len(data)) {
				break
			}
			if string(data[at:at+4]) == "EXIF" {
				exif = bytes.TrimPrefix(data[at+8:][:n], []byte("Exif\x00\x00"))
				break
			}
			at += 8 + int(n+n%2)
		}
	case GIF:
	}
	return tag(exif[:min(len(exif), maxExif)])
}

// tag finds the orientation in a TIFF header.
func tag(exif []byte) int {
	if len(exif) < 8 {
		return 1
	}
	var order binary.ByteOrder = binary.LittleEndian
	switch string(exif[:2]) {
	case "II":
	case "MM":
		order = binary.BigEndian
	default:
		return 1
	}
	at := int64(order.Uint32(exif[4:]))
	if at+2 > int64(len(exif)) {
		return 1
	}
	entries := exif[at+2:]
	for range order.Uint16(exif[at:]) {
		if len(entries) < 12 {
			return 1
		}
		if order.Uint16(entries) == 0x0112 {
			if v := int(order.Uint16(entries[8:])); order.Uint16(entries[2:]) == 3 && v >= 1 && v <= 8 {
				return v
			}
			return 1
		}
		entries = entries[12:]
	}
	return 1
}

// Command kernelgen writes the assembly of package tensor. Each kernel is written once for registers of any width, where
// the instruction sets allow that; "make generate" runs it, and its output is kept beside the Go code.
package main

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"go/format"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

func main() {
	overlay := flag.String("overlay", "", "write a file for go test -overlay instead, with which the kernels of AVX-VNNI run on a processor that has the same instruction in AVX-512")
	flag.Parse()
	dir := "."
	if flag.NArg() > 0 {
		dir = flag.Arg(0)
	}
	var err error
	if *overlay != "" {
		err = writeOverlay(*overlay, dir)
	} else {
		err = write(dir, files())
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func write(dir string, files map[string][]byte) error {
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// writeOverlay writes the kernels of AVX-VNNI with the instruction in its other form, and a list of what is replaced by what, beside
// each other.
func writeOverlay(list, dir string) error {
	set := &amd64{name: "avxvnni", lanes: 2, vnni: true, evex: true}
	set.kernels()
	files := map[string][]byte{"avxvnni_amd64.go": []byte("//go:build !purego\n\npackage tensor\n\nimport \"golang.org/x/sys/cpu\"\n\nfunc hasAVXVNNI() bool { return cpu.X86.HasAVX512VNNI && cpu.X86.HasAVX512VL }\n")}
	set.write(files, "amd64", set.list())
	delete(files, "kernels_avxvnni_amd64.go") // which is the same
	var replace struct{ Replace map[string]string }
	replace.Replace = map[string]string{}
	for name := range files {
		from, err := filepath.Abs(filepath.Join(dir, name))
		if err != nil {
			return err
		}
		if replace.Replace[from], err = filepath.Abs(filepath.Join(filepath.Dir(list), name)); err != nil {
			return err
		}
	}
	text, err := json.Marshal(replace)
	if err != nil {
		return err
	}
	files[filepath.Base(list)] = text
	return write(filepath.Dir(list), files)
}

// files gives every generated file by its name.
func files() map[string][]byte {
	out := map[string][]byte{}
	for _, set := range []*amd64{{name: "avx2", lanes: 2}, {name: "avxvnni", lanes: 2, vnni: true}, {name: "avx512", lanes: 4}, {name: "vnni", lanes: 4, vnni: true}} {
		set.kernels()
		set.write(out, "amd64", set.list())
	}
	neon := &arm64{}
	neon.kernels()
	neon.write(out, "arm64", neon.list())
	return out
}

// vectorKernels are the kernels that have nothing to do with formats: their fields, and the functions in them.
var vectorKernels = []struct{ field, name string }{
	{"transpose", "transpose"}, {"round", "round"}, {"widenF16", "widenF16"}, {"widenBF16", "widenBF16"}, {"dotFloats1", "dotFloats1"}, {"dotFloats4", "dotFloats4"},
	{"add", "addFloats"}, {"scale", "scaleFloats"}, {"blend", "blendFloats"}, {"recur", "recur"}, {"swish", "swish"}, {"tanhGELU", "tanhGELU"},
	{"mask", "mask"}, {"weigh", "weigh"}, {"soften", "soften"}, {"exp", "exp"},
}

// source is what the generators of all processors have: a text that grows by functions.
type source struct {
	registers
	generals    generals
	notesAt     int // where in the text what registers are for belongs
	text, stubs bytes.Buffer
	constants   bytes.Buffer
	known       map[string]bool
	set         string // the instruction set, with which all names end
	frame       int    // bytes of the stack that the next function uses
	labels      int
}

// function begins a function whose parameters are words, each named with its Go type. One that has no name is the result.
func (s *source) function(name, comment string, parameters ...string) {
	full := name + "_" + s.set
	size := 8 * len(parameters)
	if slices.Contains(parameters, ":float32") {
		size -= 4
	}
	fmt.Fprintf(&s.text, "\nTEXT ·%s(SB), NOSPLIT, $%d-%d\n", full, s.frame, size)
	s.frame, s.notesAt, s.generals = 0, s.text.Len(), generals{}
	var list []string
	result := ""
	for _, p := range parameters {
		if of, ok := strings.CutPrefix(p, ":"); ok {
			result = " " + of
			continue
		}
		list = append(list, strings.Replace(p, ":", " ", 1))
	}
	fmt.Fprintf(&s.stubs, "\n// %s %s\n//\n//go:noescape\nfunc %s(%s)%s\n", full, comment, full, strings.Join(list, ", "), result)
}

// noted says before a function's instructions what its registers are for.
func (s *source) noted() {
	if len(s.notes) == 0 {
		return
	}
	rest := string(s.text.Bytes()[s.notesAt:])
	s.text.Truncate(s.notesAt)
	fmt.Fprintf(&s.text, "\t// Registers: %s.\n%s", strings.Join(s.notes, "; "), rest)
}

// op writes an instruction.
func (s *source) op(name string, operands ...any) {
	var list []string
	for _, o := range operands {
		list = append(list, fmt.Sprint(o))
	}
	fmt.Fprintf(&s.text, "\t%s %s\n", name, strings.Join(list, ", "))
}

// comment writes a line that is none of the program.
func (s *source) comment(format string, args ...any) {
	fmt.Fprintf(&s.text, "\t// "+format+"\n", args...)
}

// label is a name for a place that op has not used.
func (s *source) label(what string) string {
	s.labels++
	return fmt.Sprintf("%s%d", what, s.labels)
}

func (s *source) place(label string) { fmt.Fprintf(&s.text, "%s:\n", label) }

// constant is a symbol with these words.
func (s *source) constant(name string, words ...uint32) string {
	full := name + "_" + s.set
	symbol := full + "<>(SB)"
	if s.known == nil {
		s.known = map[string]bool{}
	}
	if s.known[full] {
		return symbol
	}
	s.known[full] = true
	fmt.Fprintln(&s.constants)
	for i, w := range words {
		fmt.Fprintf(&s.constants, "DATA %s<>+%d(SB)/4, $0x%08x\n", full, 4*i, w)
	}
	fmt.Fprintf(&s.constants, "GLOBL %s<>(SB), RODATA|NOPTR, $%d\n", full, 4*len(words))
	return symbol
}

const header = "// Code generated by kernelgen. DO NOT EDIT.\n\n//go:build !purego\n\n"

// write gives the assembly, and the Go file that declares its functions and lists them.
func (s *source) write(out map[string][]byte, processor, list string) {
	name := "kernels_" + s.set + "_" + processor
	out[name+".s"] = []byte(header + "#include \"textflag.h\"\n" + s.constants.String() + s.text.String())
	out[name+".go"] = formatted(header + "package tensor\n\nimport \"kindredgate/internal/weights\"\n\n" + list + s.stubs.String())
}

// formatted is Go source as gofmt has it.
func formatted(text string) []byte {
	out, err := format.Source([]byte(text))
	if err != nil {
		panic(err)
	}
	return out
}

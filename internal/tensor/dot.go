package tensor

// The kernels in use. The generic functions define the result; an implementation for a processor replaces
// an entry from an init function in its own file (dot_amd64.go, dot_arm64.go) after asking what the
// processor has, and must pass the same table of tests.
var (
	// dotF32 is the dot product of two float32 vectors of equal length.
	dotF32 = dotF32Generic
	// dotF16 is the dot product of a row of little-endian half floats and a float32 vector.
	dotF16 = dotF16Generic
	// dotQ8 is the dot product of a row of Q8_0 blocks and a vector quantised to signed bytes q with one
	// scale in d for each block: the sum over blocks of row scale × d × (integer dot product).
	dotQ8 = dotQ8Generic
)

// Dot is the dot product of two float32 vectors of equal length.
func Dot(a, b []float32) float32 { return dotF32(a, b) }

package measure

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"testing"

	"kindredgate/internal/weights"
)

func TestTmp(t *testing.T) {
	shape := Shapes[2]
	for _, s := range Shapes {
		if s.Name == os.Getenv("SHAPE") {
			shape = s
		}
	}
	kind := weights.Q8_0
	for k := range weights.Types {
		if k.String() == os.Getenv("KIND") {
			kind = k
		}
	}
	r, err := Run(context.Background(), Job{Name: shape.Name, Open: func() (*weights.Checkpoint, error) { return shape.Checkpoint(kind) }, Progress: func(d string, a, b int) {}})
	if err != nil {
		t.Fatal(err)
	}
	raw, _ := json.Marshal(r.Limits)
	fmt.Println(r.Kernels, string(raw), r.Size)
	for _, f := range r.Figures {
		fmt.Printf("%-45s %10.1f %-10s", f.Name, f.Value, f.Unit)
		if f.Limit > 0 {
			fmt.Printf(" %5.1f %% of %s", 100*f.Value/f.Limit, f.By)
		}
		fmt.Println(f.Skipped)
	}
}

package machine

import (
	"fmt"
	"slices"
	"testing"
	"testing/fstest"
)

// Numbers of threads that are worth measuring follow from how a processor is built; what cannot be read leaves all of them.
func TestThreadCounts(t *testing.T) {
	file := func(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text + "\n")} }
	built := func(threads int, core func(i int) string, more fstest.MapFS) fstest.MapFS {
		files := fstest.MapFS{}
		for i := range threads {
			files[fmt.Sprintf("system/cpu/cpu%d/topology/thread_siblings_list", i)] = file(core(i))
		}
		for name, f := range more {
			files[name] = f
		}
		return files
	}
	alone := func(i int) string { return fmt.Sprint(i) }
	pairs := func(i int) string { return fmt.Sprintf("%d,%d", i%8, i%8+8) }
	small := fstest.MapFS{}
	for i := range 8 {
		small[fmt.Sprintf("system/cpu/cpu%d/cpu_capacity", i)] = file([]string{"400", "1024"}[i/4])
	}
	for name, c := range map[string]struct {
		files fstest.MapFS
		most  int
		want  []int
	}{
		"nothing to read":              {nil, 6, []int{6}},
		"cores alone":                  {built(4, alone, nil), 4, []int{4}},
		"cores of two threads":         {built(16, pairs, nil), 16, []int{8, 16}},
		"limited to half of it":        {built(16, pairs, nil), 8, []int{8}},
		"limited to less":              {built(16, pairs, nil), 4, []int{4}},
		"two nodes of memory":          {built(16, pairs, fstest.MapFS{"system/node/node0/cpulist": file("0-3,8-11"), "system/node/node1/cpulist": file("4-7,12-15")}), 16, []int{4, 8, 16}},
		"cores of two kinds, by use":   {built(8, alone, small), 8, []int{4, 8}},
		"of two kinds and two threads": {built(16, pairs, small), 16, []int{4, 8, 16}},
		// Four cores of two threads each, and eight that are slower.
		"cores of two kinds, listed": {built(16, func(i int) string {
			if i < 8 {
				return fmt.Sprintf("%d-%d", i/2*2, i/2*2+1)
			}
			return fmt.Sprint(i)
		}, fstest.MapFS{"cpu_core/cpus": file("0-7")}), 16, []int{4, 12, 16}},
		"what is no list": {built(4, alone, fstest.MapFS{"cpu_core/cpus": file("0-99999999999999999999"), "system/node/node0/cpulist": file("x,3-1,,")}), 4, []int{4}},
	} {
		if got := threadCounts(c.files, c.most); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, want %v", name, got, c.want)
		}
	}
}

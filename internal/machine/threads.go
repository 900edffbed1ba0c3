package machine

import (
	"io/fs"
	"os"
	"path"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"

	"kindredgate/internal/tensor"
)

// Threads is how many threads the engine should use: of the numbers that the processor's build suggests, the one that brings most, measured when it
// is asked for first. gains are what was measured; none if there was no choice.
var Threads = sync.OnceValues(func() (n int, gains []tensor.Gain) {
	counts := threadCounts(os.DirFS("/sys/devices"), runtime.GOMAXPROCS(0))
	if len(counts) == 1 {
		return counts[0], nil
	}
	gains = tensor.Gains(counts)
	return tensor.Worth(gains), gains
})

// threadCounts are numbers of threads that may be best, of at most so many: all, one for each core, one for each of the faster cores where there are
// cores of two kinds, and those of one node of memory.
func threadCounts(devices fs.FS, most int) (list []int) {
	list = []int{most}
	add := func(n int) {
		if n > 0 && n < most && !slices.Contains(list, n) {
			list = append(list, n)
		}
	}
	cores := map[string]int{} // the capacity of each, by the numbers of its threads
	of := map[int]string{}    // the core of a thread
	folders, _ := fs.Glob(devices, "system/cpu/cpu[0-9]*")
	for _, folder := range folders {
		core := text(devices, path.Join(folder, "topology/thread_siblings_list"))
		number, err := strconv.Atoi(strings.TrimPrefix(path.Base(folder), "cpu"))
		if core == "" || err != nil {
			continue
		}
		capacity, _ := strconv.Atoi(text(devices, path.Join(folder, "cpu_capacity")))
		cores[core], of[number] = max(cores[core], capacity), core
	}
	add(len(cores))
	coresOf := func(file string) (n int) {
		seen := map[string]bool{}
		for _, number := range numbers(text(devices, file)) {
			if core := of[number]; core != "" && !seen[core] {
				seen[core] = true
				n++
			}
		}
		return n
	}
	add(coresOf("cpu_core/cpus")) // as Linux lists the faster ones of x86
	largest, fast := 0, 0
	for _, capacity := range cores {
		largest = max(largest, capacity)
	}
	for _, capacity := range cores {
		if 4*capacity >= 3*largest {
			fast++
		}
	}
	add(fast)
	nodes, _ := fs.Glob(devices, "system/node/node[0-9]*/cpulist")
	for _, node := range nodes {
		add(coresOf(node))
	}
	slices.Sort(list)
	return list
}

// text is what a file says in one line; empty if there is none.
func text(files fs.FS, name string) string {
	raw, err := fs.ReadFile(files, name)
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(raw))
}

// numbers are those of a list such as "0-3,8".
func numbers(list string) (out []int) {
	for part := range strings.SplitSeq(list, ",") {
		first, last, between := strings.Cut(part, "-")
		from, err := strconv.Atoi(first)
		to := from
		if between && err == nil {
			to, err = strconv.Atoi(last)
		}
		if err != nil || to-from > 1<<16 {
			continue
		}
		for i := from; i <= to; i++ {
			out = append(out, i)
		}
	}
	return out
}

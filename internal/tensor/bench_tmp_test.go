package tensor
import ("fmt";"testing";"kindredgate/internal/weights")
func BenchmarkParts(b *testing.B) {
	k := inUse
	for _, kind := range []weights.Type{weights.Q8_0, weights.Q4_0, weights.Q4_K, weights.Q6_K, weights.MXFP4} {
		f := FormatOf(kind)
		m, _ := matrix(b, kind, 16, 2048, random(16*2048, 1))
		var s worker
		s.rows.room(4, 16, 16, f)
		x := NewBatch(12, 2048); x.Resize(12); copy(x.data, random(2048*12, 2))
		var pack Packer
		p := pack.Pack(nil, x, &m)
		b.Run("unpack/"+kind.String(), func(b *testing.B) {
			for b.Loop() { s.rows.take(k, &m, 0, 4, 0, 16, &s.row) }
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/64, "ns/quad")
		})
		u := &s.rows
		b.Run("dot/"+kind.String(), func(b *testing.B) {
			for b.Loop() { k.dot[f.kind()]((*[4]float32)(u.acc), p.at(0,0), &u.q[0], u.rowBytes, &u.scale[0], 4*u.rowScales, &u.low[0], 16) }
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/64, "ns/quad")
		})
		s.rows.room(16, 4, 16, f)
		b.Run("unpack16/"+kind.String(), func(b *testing.B) {
			for b.Loop() { s.rows.take(k, &m, 0, 16, 0, 4, &s.row) }
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/64, "ns/quad")
		})
		b.Run("transpose/"+kind.String(), func(b *testing.B) {
			for b.Loop() { k.transpose(&u.panel[0], &u.q[0], u.rowBytes, 32) }
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/64, "ns/quad")
		})
		t := k.tiles[f.kind()][0]
		b.Run("tile/"+kind.String(), func(b *testing.B) {
			for b.Loop() { t.run(&u.acc[0], p.at(0, 0), p.stride(), &u.panel[0], &u.scalePanel[0], &u.lowPanel[0], 4) }
			b.ReportMetric(float64(t.vectors)*16*512*2/(float64(b.Elapsed().Nanoseconds())/float64(b.N)), "GOP/s")
		})
	}
}
func BenchmarkBig(b *testing.B) {
	for _, cols := range []int{2048, 8192} {
	for _, n := range []int{12, 60, 252} {
	m, _ := matrix(b, weights.Q8_0, 128, cols, random(128*cols, 1))
	x := NewBatch(n, cols); x.Resize(n); copy(x.data, random(n*cols, 2))
	var pack Packer
	var mul Multiplier
	out := NewBatch(n, 128)
	p := pack.Pack(nil, x, &m)
	b.Run(fmt.Sprint("Big/", cols, "/", n), func(b *testing.B) {
		for b.Loop() { mul.Mul(nil, p, Product{&m, out}) }
		b.ReportMetric(float64(n)*128*float64(cols)*2/(float64(b.Elapsed().Nanoseconds())/float64(b.N)), "GOP/s")
	})
	}}
}

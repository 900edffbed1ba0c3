package model

// pageTokens is how many positions a page of the KV cache holds.
const pageTokens = 64

// Cache holds the keys and values of the positions that one sequence has been through. Pages are allocated
// as the sequence grows. A Cache is used by one Forward at a time.
type Cache struct {
	width int      // KVHeads × HeadDim
	pages [][]page // [layer][position / pageTokens]
	n     int      // positions held
}

// page holds pageTokens keys and values of one layer, each KVHeads × HeadDim wide.
type page struct{ keys, values []float32 }

// NewCache makes an empty cache for a sequence of m.
func (m *Model) NewCache() *Cache {
	return &Cache{width: m.KVHeads * m.HeadDim, pages: make([][]page, m.Layers)}
}

// Len is the number of positions held; the next token goes to position Len.
func (c *Cache) Len() int { return c.n }

// grow makes room for n positions.
func (c *Cache) grow(n int) {
	for l := range c.pages {
		for len(c.pages[l])*pageTokens < n {
			c.pages[l] = append(c.pages[l], page{
				keys:   make([]float32, pageTokens*c.width),
				values: make([]float32, pageTokens*c.width),
			})
		}
	}
}

// at returns the key and the value of one position in one layer.
func (c *Cache) at(layer, pos int) (key, value []float32) {
	p := &c.pages[layer][pos/pageTokens]
	from := pos % pageTokens * c.width
	return p.keys[from : from+c.width], p.values[from : from+c.width]
}

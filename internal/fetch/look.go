package fetch

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"kindredgate/internal/catalog"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/gguf"
	"kindredgate/internal/weights/safetensors"
)

// mostHeader bounds how much of a file is read to look at it.
const mostHeader = 256 << 20

// Look reads the headers of what is at an address: a model, or a page that names several. What is wrong with one becomes
// its Problem. visit is called with each as it comes, and its address; Path is that too.
func (s Source) Look(ctx context.Context, address string, visit func(catalog.Model)) error {
	list := []string{address}
	if !strings.HasSuffix(strings.ToLower(withoutQuery(address)), ".gguf") {
		if m, err := s.lookFolder(ctx, strings.TrimSuffix(address, "/config.json")); err == nil {
			visit(m)
			return nil
		}
		var err error
		if list, err = s.Listing(ctx, address); err != nil {
			return err
		}
		if len(list) == 0 {
			return fmt.Errorf("%s names no .gguf files, and is no folder with a config.json", address)
		}
	}
	for _, one := range list {
		m, err := s.lookFile(ctx, one)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			m.Problem = err.Error()
		}
		visit(m)
	}
	return nil
}

func withoutQuery(address string) string {
	address, _, _ = strings.Cut(address, "?")
	return address
}

// header reads as much of a GGUF file as its header takes, and tells its size.
func (s Source) header(ctx context.Context, address string) (*gguf.File, int64, error) {
	for n := int64(1 << 20); ; n *= 4 {
		raw, size, err := s.Beginning(ctx, address, n)
		if err != nil {
			return nil, 0, err
		}
		if size == 0 {
			size = int64(len(raw))
		}
		f, err := gguf.ParseHeader(raw, size)
		if errors.Is(err, gguf.ErrShort) && int64(len(raw)) == n && n < mostHeader {
			continue
		}
		return f, size, err
	}
}

// lookFile looks at a GGUF file by its header.
func (s Source) lookFile(ctx context.Context, address string) (m catalog.Model, err error) {
	m.Path, m.ID = address, strings.TrimSuffix(path.Base(withoutQuery(address)), ".gguf")
	f, size, err := s.header(ctx, address)
	if err != nil {
		return m, err
	}
	c, err := gguf.Header(f, size)
	if err != nil {
		return m, err
	}
	m.Size = size
	if count, err := f.Metadata.Int("split.count"); err == nil && count > 1 {
		if err := s.otherParts(ctx, address, c, &m); err != nil {
			return m, err
		}
	}
	return m, m.Describe(c)
}

// otherParts adds the tensors of the other parts of a model.
func (s Source) otherParts(ctx context.Context, address string, c *weights.Checkpoint, m *catalog.Model) error {
	files, err := s.Files(ctx, address)
	if err != nil {
		return err
	}
	for _, file := range files[1:] {
		raw, size, err := s.Beginning(ctx, file.Address, 16<<20)
		if err != nil {
			return err
		}
		f, err := gguf.ParseHeader(raw, size)
		if err != nil {
			return fmt.Errorf("%s: %w", file.Name, err)
		}
		c.Tensors = append(c.Tensors, f.Tensors...)
		m.Size += size
	}
	m.ID, _, _, _ = gguf.Part(files[0].Name)
	return nil
}

// lookFolder reads config.json and the headers of the weights beside it.
func (s Source) lookFolder(ctx context.Context, address string) (m catalog.Model, err error) {
	m.Path, m.ID = address, path.Base(strings.TrimRight(withoutQuery(address), "/"))
	files, err := s.folder(ctx, address)
	if err != nil {
		return m, err
	}
	config, err := s.text(ctx, files[0].Address)
	if err != nil {
		return m, err
	}
	c := &weights.Checkpoint{}
	if err := safetensors.Configure(c, config); err != nil {
		m.Problem = err.Error()
		return m, nil
	}
	for _, file := range files {
		if path.Ext(file.Name) != ".safetensors" || strings.Contains(file.Name, "/") {
			continue
		}
		raw, size, err := s.Beginning(ctx, file.Address, 8<<20)
		if err != nil {
			return m, err
		}
		list, _, _, err := safetensors.ParseHeader(raw, size)
		if err != nil {
			return m, fmt.Errorf("%s: %w", file.Name, err)
		}
		m.Size += size
		if err := safetensors.Add(c, list, "", nil); err != nil {
			return m, err
		}
	}
	if err := m.Describe(c); err != nil {
		m.Problem = err.Error()
	}
	return m, nil
}

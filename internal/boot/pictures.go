package boot

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"kindredgate/internal/tool/web"
)

// Bounds of fetching a picture.
const (
	mostPicture = 12 << 20 // bytes
	pictureTime = 20 * time.Second
)

// pictureFetcher gets pictures from addresses that others name, as far as a guard lets it.
func pictureFetcher(g web.Guard) func(context.Context, string) ([]byte, error) {
	client := web.NewClient(g, nil, mostPicture)
	return func(ctx context.Context, address string) ([]byte, error) {
		ctx, cancel := context.WithTimeout(ctx, pictureTime)
		defer cancel()
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
		if err != nil {
			return nil, errors.New("it is no address")
		}
		resp, err := client.Do(req)
		if err != nil {
			return nil, err
		}
		defer resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			return nil, fmt.Errorf("the server answers %s", resp.Status)
		}
		raw, err := io.ReadAll(io.LimitReader(resp.Body, mostPicture+1))
		if err == nil && len(raw) > mostPicture {
			err = fmt.Errorf("it has more than %d MiB", mostPicture>>20)
		}
		return raw, err
	}
}

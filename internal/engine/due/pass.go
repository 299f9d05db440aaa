package due

import (
	"context"
	"crypto/rand"
)

const maskSetting = "mask_key"

// MaskKey is the key of masks that hash. It stays in the catalog and goes into no archive.
func (du *Selector) MaskKey(ctx context.Context) ([]byte, error) {
	text, err := du.Catalog.Setting(ctx, maskSetting)
	if err != nil {
		return nil, err
	}
	if text == "" {
		text = rand.Text() + rand.Text()
		if err := du.Catalog.SetSetting(ctx, maskSetting, text); err != nil {
			return nil, err
		}
	}
	return []byte(text), nil
}

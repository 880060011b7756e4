package disk_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
)

// 250 GB shows as 232, 320 as 298, 1 TB as 931 on a screen that counts in binary
// units: common practice, no source.
func TestSizesAsTheyAreReadAloud(t *testing.T) {
	for text, want := range map[string]int64{
		"500107862016": 500_107_862_016, "500.107.862.016": 500_107_862_016, "500 107 862 016 bytes": 500_107_862_016, "500,107,862,016": 500_107_862_016,
		"465.8 GiB": 465<<30 + 858993459, "465,8 GiB": 465<<30 + 858993459, "500 GB": 500_000_000_000, "1 TB": 1_000_000_000_000,
		"1.5TB":  1_500_000_000_000,
		"232 GB": disk.AdvertisedSectors(250) * 512, "298 GB": disk.AdvertisedSectors(320) * 512,
		"931 GB": disk.AdvertisedSectors(1000) * 512, "100 MB": 100_000_000, "0 B": 0,
	} {
		got, _, err := disk.ParseSize(text, disk.EitherUnits)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	got, rounded, err := disk.ParseSize("465 GB", disk.BinaryUnits)
	require.NoError(t, err)
	assert.True(t, rounded)
	assert.EqualValues(t, int64(465)<<30, got)
	for _, text := range []string{"", "big", "12 parsecs", "-5 GB", "99999999999999999999", "900 EB"} {
		_, _, err := disk.ParseSize(text, disk.EitherUnits)
		assert.Error(t, err, text)
	}
}

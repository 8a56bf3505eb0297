package health

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Log pages as SBC-3 and SPC-4 lay them out, byte by byte.
func TestLogPagesOfSCSIDisks(t *testing.T) {
	pages := map[byte][]byte{
		pageTemperature: {0x0d, 0, 0, 12, 0, 0, 3, 2, 0, 41, 0, 1, 3, 2, 0, 65},
		pageEndurance:   {0x11, 0, 0, 8, 0, 1, 3, 4, 0, 0, 0, 7},
		pageBackground:  {0x15, 0, 0, 16, 0, 0, 3, 12, 0, 0, 0x0e, 0x10, 0, 0, 0, 0, 0, 0, 0, 0},
		pageReadErrors:  {0x03, 0, 0, 14, 0, 3, 0, 1, 9, 0, 6, 0, 5, 0, 0, 0, 0, 2},
		pageWriteErrors: {0x02, 0, 0, 6, 0, 6, 0, 2, 0, 1},
	}
	r, err := FromSCSI(pages)
	require.NoError(t, err)
	require.InDelta(t, 41, *r.Temperature, 0)
	require.InDelta(t, 0.07, *r.Wear, 1e-9)
	require.Equal(t, int64(60), *r.PowerOnHours)
	require.Equal(t, int64(3), *r.Uncorrectable, "two that could not be read and one that could not be written")
	require.Equal(t, Failing, Judge(r, r, DefaultRules).Grade)

	// Not known is not told: a temperature of 0xff, a page under another's number, one that is cut short.
	_, err = FromSCSI(map[byte][]byte{pageTemperature: {0x0d, 0, 0, 6, 0, 0, 3, 2, 0, 0xff}, pageEndurance: {0x0d, 0, 0, 0}, pageReadErrors: {0x03, 0, 0, 99, 0, 6, 0, 8, 1}})
	require.Error(t, err)
}

// What a disk answers is hostile.
func FuzzSCSI(f *testing.F) {
	f.Add(byte(pageReadErrors), []byte{0x03, 0, 0, 14, 0, 3, 0, 1, 9, 0, 6, 0, 5, 0, 0, 0, 0, 2})
	f.Fuzz(func(t *testing.T, page byte, raw []byte) {
		r, err := FromSCSI(map[byte][]byte{page: raw, pageWriteErrors: {0x02, 0, 0, 12, 0, 6, 0, 8, 0x7f, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}})
		if err == nil && r.Uncorrectable != nil {
			require.GreaterOrEqual(t, *r.Uncorrectable, int64(0))
		}
	})
}

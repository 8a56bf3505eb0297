package health

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"
)

// attributes makes a page of SMART data by the standard's frame.
func attributes(of map[byte][6]byte) []byte {
	page, at := make([]byte, PageSize), 2
	for id, raw := range of {
		page[at] = id
		copy(page[at+5:], raw[:])
		at += 12
	}
	sum := byte(0)
	for _, b := range page {
		sum += b
	}
	page[PageSize-1] = -sum
	return page
}

func TestWhatDisksAnswerIsRead(t *testing.T) {
	r, err := FromATA(attributes(map[byte][6]byte{
		5: {12}, 9: {0x10, 0x27, 0, 0, 9, 9}, 194: {41, 0, 18, 0, 60}, 197: {3}, 198: {1}, 199: {0, 1}, 240: {7},
	}))
	require.NoError(t, err)
	require.Equal(t, []int64{12, 10_000, 3, 1, 256}, []int64{*r.Reallocated, *r.PowerOnHours, *r.Pending, *r.Uncorrectable, *r.LinkErrors})
	require.Equal(t, 41.0, *r.Temperature)
	require.Nil(t, r.Wear)
	id := make([]byte, PageSize)
	binary.LittleEndian.PutUint16(id[152:], 0b1110)
	binary.LittleEndian.PutUint16(id[154:], 2<<1)
	r.LinkFromATA(id)
	require.Equal(t, []float64{3, 6}, []float64{*r.LinkSpeed, *r.LinkBest})
	require.Equal(t, Failing, Judge(r, Readings{}, DefaultRules).Grade, "a sector could not be read")

	log := make([]byte, PageSize)
	binary.LittleEndian.PutUint16(log[1:], 273+35)
	log[5] = 96
	binary.LittleEndian.PutUint64(log[128:], 777)
	binary.LittleEndian.PutUint64(log[168:], 1) // more than an int64 holds
	r, err = FromNVMe(log)
	require.NoError(t, err)
	require.Equal(t, 35.0, *r.Temperature)
	require.Equal(t, 0.96, *r.Wear)
	require.Equal(t, int64(777), *r.PowerOnHours)
	require.Positive(t, *r.Uncorrectable)
}

func FuzzWhatDisksAnswer(f *testing.F) {
	f.Add(attributes(map[byte][6]byte{194: {41}}))
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, page []byte) {
		r, err := FromATA(page)
		if err == nil {
			r.LinkFromATA(page)
			Judge(r, r, DefaultRules)
		}
		if r, err := FromNVMe(page); err == nil {
			Judge(r, Readings{}, DefaultRules)
			require.GreaterOrEqual(t, *r.Uncorrectable, int64(0))
		}
	})
}

func TestWhatGotWorseIsNamed(t *testing.T) {
	n := func(v int64) *int64 { return &v }
	require.Empty(t, Worse(Readings{Pending: n(3)}, Readings{Pending: n(1), Reallocated: n(2)}))
	require.Equal(t, []string{"replaced sectors went from 1 to 4"}, Worse(Readings{Reallocated: n(1), Pending: n(2)}, Readings{Reallocated: n(4), Pending: n(2)}))
}

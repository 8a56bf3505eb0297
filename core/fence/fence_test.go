package fence

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestKeysCarryTokens(t *testing.T) {
	for _, token := range []uint64{0, 1, 4711, MaxToken} {
		got, ok := Token(Key(token))
		require.True(t, ok)
		require.Equal(t, token, got)
		require.NotZero(t, Key(token))
	}
	_, ok := Token(0x123abc)
	require.False(t, ok)
}

func TestWhoMayTakeADisk(t *testing.T) {
	held := func(holder uint64, keys ...uint64) Held { return Held{Keys: keys, Holder: holder, WriteOnly: true} }
	require.NoError(t, Held{}.Allows(7))
	require.NoError(t, held(Key(6), Key(6), Key(5)).Allows(7))
	require.NoError(t, held(Key(7), Key(7)).Allows(7))
	require.ErrorIs(t, held(Key(8), Key(8)).Allows(7), ErrOvertaken)
	require.ErrorIs(t, held(0, Key(8)).Allows(7), ErrOvertaken)
	require.ErrorIs(t, held(0, 0x99).Allows(7), ErrForeign)
	require.ErrorIs(t, held(0x99).Allows(7), ErrForeign)
	require.ErrorIs(t, Held{Holder: Key(1), Keys: []uint64{Key(1)}}.Allows(7), ErrForeign)
	require.True(t, held(Key(7), Key(7), Key(7)).Only(Key(7)))
	require.False(t, held(Key(7), Key(7), Key(6)).Only(Key(7)))
	require.False(t, held(0, Key(7)).Only(Key(7)))
	require.Equal(t, []uint64{Key(5), Key(6)}, held(0, Key(5), Key(7), Key(5), Key(6)).Others(Key(7)))
}

func TestWhatDisksAnswer(t *testing.T) {
	keys := make([]byte, 24)
	keys[7] = 16
	binary.BigEndian.PutUint64(keys[8:], Key(3))
	binary.BigEndian.PutUint64(keys[16:], Key(4))
	none, one := make([]byte, 8), make([]byte, 24)
	one[7], one[21] = 16, scsiType
	binary.BigEndian.PutUint64(one[8:], Key(4))
	h, err := FromSCSI(keys, none)
	require.NoError(t, err)
	require.Equal(t, Held{Keys: []uint64{Key(3), Key(4)}}, h)
	h, err = FromSCSI(keys, one)
	require.NoError(t, err)
	require.Equal(t, Held{Keys: []uint64{Key(3), Key(4)}, Holder: Key(4), WriteOnly: true}, h)
	keys[7] = 32
	_, err = FromSCSI(keys, none)
	require.ErrorIs(t, err, ErrFormat)

	report := make([]byte, 64+2*64)
	report[4], report[5] = nvmeType, 2
	binary.LittleEndian.PutUint64(report[64+8:], Key(3))
	report[128+2] = 1
	binary.LittleEndian.PutUint64(report[128+8:], Key(4))
	h, err = FromNVMe(report)
	require.NoError(t, err)
	require.Equal(t, Held{Keys: []uint64{Key(3), Key(4)}, Holder: Key(4), WriteOnly: true}, h)
	report[5] = 3
	_, err = FromNVMe(report)
	require.ErrorIs(t, err, ErrFormat)
}

// By SPC-4, tables 207 to 209, and NVM Express 2.0, sections 7.2 and 7.5.
func TestCommandsAreThoseOfTheStandards(t *testing.T) {
	mine, other := Key(7), Key(6)
	for _, x := range []struct {
		do        Action
		scsi      byte // service action
		a, b      uint64
		opcode    uint8
		dword     uint32
		nvme, and uint64
	}{
		{Register, 6, 0, mine, 0x0d, 3<<30 | 1<<3 | 2, 0, mine},
		{Reserve, 1, mine, other, 0x11, 3 << 8, mine, other},
		{Preempt, 4, mine, other, 0x11, 3<<8 | 1, mine, other},
		{PreemptAndAbort, 5, mine, other, 0x11, 3<<8 | 2, mine, other},
	} {
		command, data := SCSI(x.do, mine, other, true)
		require.Equal(t, []byte{0x5f, x.scsi, 5, 0, 0, 0, 0, 0, 24, 0}, command)
		require.Equal(t, x.a, binary.BigEndian.Uint64(data))
		require.Equal(t, x.b, binary.BigEndian.Uint64(data[8:]))
		require.Equal(t, x.do == Register, data[20] == 1)
		opcode, dword, data := NVMe(x.do, mine, other, true)
		require.Equal(t, x.opcode, opcode)
		require.Equal(t, x.dword, dword)
		require.Equal(t, x.nvme, binary.LittleEndian.Uint64(data))
		require.Equal(t, x.and, binary.LittleEndian.Uint64(data[8:]))
	}
	_, dword, _ := NVMe(Register, 0, 0, false)
	require.Equal(t, uint32(1<<3|1), dword)
}

func FuzzAnswers(f *testing.F) {
	f.Add(make([]byte, 24), make([]byte, 24))
	f.Fuzz(func(_ *testing.T, a, b []byte) {
		_, _ = FromSCSI(a, b)
		_, _ = FromNVMe(a)
	})
}

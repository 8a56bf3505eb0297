package queue_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/internal/service/queue"
)

func TestPacesByTheHour(t *testing.T) {
	for _, c := range []struct{ text, clock, want string }{
		{"gentle", "03:00", "gentle"},
		{"80MiB/s", "03:00", "83886080 bytes/s"},
		{"08:00-18:00 gentle, else full", "07:59", "full"},
		{"08:00-18:00 gentle, else full", "08:00", "gentle"},
		{"08:00-18:00 gentle, else full", "17:59", "gentle"},
		{"08:00-18:00 gentle, else full", "18:00", "full"},
		{"22:00-06:00 full", "23:30", "full"},
		{"22:00-06:00 full", "05:59", "full"},
		{"22:00-06:00 full", "12:00", "normal"},
		{"08:00-12:00 gentle, 12:00-13:00 20MiB/s, else normal", "12:30", "20971520 bytes/s"},
		{"18:00-24:00 full, else gentle", "23:59", "full"},
		{"08:00-18:00 rest, else full", "12:00", "rest"},
	} {
		s, err := queue.ParseSchedule(c.text)
		require.NoError(t, err, c.text)
		at, err := time.Parse("15:04", c.clock)
		require.NoError(t, err)
		require.Equal(t, c.want, s.At(at).String(), "%s at %s", c.text, c.clock)
		require.Equal(t, c.text, s.String())
	}
	s, err := queue.ParseSchedule("by 07:00")
	require.NoError(t, err)
	for clock, want := range map[string]string{"03:00": "2026-11-02 07:00", "07:00": "2026-11-03 07:00", "22:30": "2026-11-03 07:00"} {
		now, err := time.Parse("2006-01-02 15:04", "2026-11-02 "+clock)
		require.NoError(t, err)
		by, ok := s.By(now)
		require.True(t, ok)
		require.Equal(t, want, by.Format("2006-01-02 15:04"), clock)
	}
	for _, wrong := range []string{"by", "by noon", "by 25:00", "by 07:00, else full", "", "quick", "8-18 gentle", "08:00-08:00 full", "25:00-26:00 full", "08:00-18:00", "08:00-18:00 gentle full", "else full, else gentle", "1KiB/s", "-5MiB/s", "5MiB"} {
		_, err := queue.ParseSchedule(wrong)
		require.Error(t, err, "%q", wrong)
	}
}

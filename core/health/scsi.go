package health

import (
	"encoding/binary"
	"errors"
)

// The log pages of SCSI disks that FromSCSI understands. SBC-3 and SPC-4 describe them.
const (
	pageWriteErrors  = 0x02 // write error counters, SPC-4 7.3.6
	pageReadErrors   = 0x03
	pageVerifyErrors = 0x05
	pageTemperature  = 0x0d // SPC-4 7.3.21
	pageEndurance    = 0x11 // solid state media, SBC-3 6.4.5
	pageBackground   = 0x15 // background scan results, SBC-3 6.4.2: power on minutes among them
)

// SCSIPage says whether FromSCSI has a use for a log page.
func SCSIPage(page byte) bool {
	switch page {
	case pageWriteErrors, pageReadErrors, pageVerifyErrors, pageTemperature, pageEndurance, pageBackground:
		return true
	}
	return false
}

// FromSCSI reads log pages, by their numbers, each with its header of four bytes. What a page does not hold is not told. It is an error
// when no page could be used.
func FromSCSI(pages map[byte][]byte) (r Readings, err error) {
	used := false
	for page, raw := range pages {
		if len(raw) < 4 || raw[0]&0x3f != page {
			continue
		}
		for _, p := range parameters(raw[4:min(len(raw), 4+int(binary.BigEndian.Uint16(raw[2:])))]) {
			switch {
			case page == pageTemperature && p.code == 0 && len(p.value) >= 2 && p.value[1] != 0xff:
				t := float64(p.value[1])
				r.Temperature, used = &t, true
			case page == pageEndurance && p.code == 1 && len(p.value) >= 4:
				w := float64(p.value[3]) / 100
				r.Wear, used = &w, true
			case page == pageBackground && p.code == 0 && len(p.value) >= 4:
				h := int64(binary.BigEndian.Uint32(p.value)) / 60
				r.PowerOnHours, used = &h, true
			case (page == pageReadErrors || page == pageVerifyErrors || page == pageWriteErrors) && p.code == 6 && len(p.value) <= 8 && len(p.value) > 0:
				// Parameter 6: errors that could not be corrected.
				n := int64(0)
				for _, b := range p.value {
					n = n<<8 | int64(b)
				}
				if n < 0 {
					continue
				}
				if r.Uncorrectable != nil {
					n = min(n, 1<<62) + min(*r.Uncorrectable, 1<<62-1)
				}
				r.Uncorrectable, used = &n, true
			}
		}
	}
	if !used {
		return r, errors.New("none of its log pages says anything about its health")
	}
	return r, nil
}

type parameter struct {
	code  uint16
	value []byte
}

// parameters are those of a log page: a code, a byte of flags, the length of the value, the value.
func parameters(raw []byte) (out []parameter) {
	for len(raw) >= 4 {
		n := int(raw[3])
		if len(raw) < 4+n {
			break
		}
		out = append(out, parameter{binary.BigEndian.Uint16(raw), raw[4 : 4+n]})
		raw = raw[4+n:]
	}
	return out
}

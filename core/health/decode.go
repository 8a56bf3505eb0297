package health

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// PageSize is the length of what disks answer with, in bytes: all three pages decoded here have it.
const PageSize = 512

// FromNVMe reads the log page of health information (log identifier 02h).
//
// Source: NVM Express Base Specification 2.0, section 5.16.1.3, figure 207.
func FromNVMe(page []byte) (Readings, error) {
	if len(page) != PageSize {
		return Readings{}, fmt.Errorf("a health log of %d bytes, not %d", len(page), PageSize)
	}
	count := func(off int) *int64 {
		n := int64(1<<62 - 1) // of 16 bytes; what does not fit is as good as the most that does
		if v := binary.LittleEndian.Uint64(page[off:]); binary.LittleEndian.Uint64(page[off+8:]) == 0 && v < uint64(n) {
			n = int64(v)
		}
		return &n
	}
	wear := float64(page[5]) / 100 // may exceed 1
	r := Readings{Wear: &wear, PowerOnHours: count(128), Uncorrectable: count(160)}
	if kelvin := binary.LittleEndian.Uint16(page[1:]); kelvin > 0 {
		t := float64(kelvin) - 273
		r.Temperature = &t
	}
	return r, nil
}

// FromATA reads the attributes that a disk answers SMART READ DATA with. The numbers of attributes and the form of
// their raw values are conventions that makers share, not a standard: those used here are among the most common.
//
// Source of the frame: ATA/ATAPI Command Set (ACS-3), section 7.46.6, and ATA-3, annex on attribute structures.
func FromATA(page []byte) (r Readings, err error) {
	if len(page) != PageSize {
		return r, fmt.Errorf("SMART data of %d bytes, not %d", len(page), PageSize)
	}
	sum := byte(0)
	for _, b := range page {
		sum += b
	}
	if sum != 0 {
		return r, errors.New("SMART data with a wrong checksum")
	}
	for at := 2; at+12 <= 2+30*12; at += 12 {
		raw := page[at+5 : at+11]
		low := int64(binary.LittleEndian.Uint32(raw)) // the upper bytes of the six hold other things with some makers
		switch page[at] {
		case 5:
			r.Reallocated = &low
		case 9:
			r.PowerOnHours = &low
		case 190, 194:
			if t := float64(raw[0]); t > 0 && t < 150 && (r.Temperature == nil || page[at] == 194) {
				r.Temperature = &t
			}
		case 197:
			r.Pending = &low
		case 198:
			r.Uncorrectable = &low
		case 199:
			r.LinkErrors = &low
		}
	}
	return r, nil
}

// LinkFromATA adds the speed of the link from the words that IDENTIFY DEVICE answers with.
//
// Source: ATA/ATAPI Command Set (ACS-3), section 7.12.7, words 76 and 77.
func (r *Readings) LinkFromATA(identify []byte) {
	speeds := []float64{0, 1.5, 3, 6}
	if len(identify) != PageSize {
		return
	}
	can, now := binary.LittleEndian.Uint16(identify[2*76:]), binary.LittleEndian.Uint16(identify[2*77:])
	if can == 0 || can == 0xffff {
		return // not a serial link
	}
	for g := 3; g >= 1; g-- {
		if can>>g&1 == 1 {
			r.LinkBest = &speeds[g]
			break
		}
	}
	if g := now >> 1 & 7; g >= 1 && g <= 3 {
		r.LinkSpeed = &speeds[g]
	}
}

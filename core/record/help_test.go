package record

import (
	"encoding/binary"
	"hash/crc32"
)

var le = binary.LittleEndian

func checksum(b []byte) uint32 { return crc32.Checksum(b, Castagnoli) }

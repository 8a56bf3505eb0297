package record

import "hash/crc32"

// WriterOf is what stands in a record for the name of the host that writes it; never 0. Two hosts may have the same by chance, once in four billion.
func WriterOf(host string) uint64 {
	return max(1, uint64(crc32.Checksum([]byte(host), Castagnoli)))
}

//go:build !amd64

package record

// crcQuad computes the CRC-32C of each of the four blocks of a buffer.
func crcQuad(buf []byte, out *quad) { crcEach(buf, out) }

package record

import "golang.org/x/sys/cpu"

//go:noescape
func crcQuadSSE42(buf *byte, out *quad)

// crcQuad computes the CRC-32C of each of the four blocks of a buffer.
func crcQuad(buf []byte, out *quad) {
	if !cpu.X86.HasSSE42 {
		crcEach(buf, out)
		return
	}
	crcQuadSSE42(&buf[:len(out)*Block][0], out)
}

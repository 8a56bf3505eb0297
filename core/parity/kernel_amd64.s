#include "textflag.h"

// Fused kernels for P, Q and R. One column of 64 bytes at a time: the accumulators stay in registers while the data
// strips are walked from the last to the first (Horner's rule), so every byte of data is read once.
//
//	times g:  mask = 0 > x (the bytes whose top bit falls out);  x = x + x;  x = x XOR (mask AND 0x1d)

DATA poly<>+0(SB)/8, $0x1d1d1d1d1d1d1d1d
GLOBL poly<>(SB), RODATA|NOPTR, $8
DATA three<>+0(SB)/8, $0x0303030303030303
GLOBL three<>(SB), RODATA|NOPTR, $8
DATA upper<>+0(SB)/8, $0xfcfcfcfcfcfcfcfc
GLOBL upper<>(SB), RODATA|NOPTR, $8
// 0, 1, 2 and 3 times x^8, reduced: what the two top bits fold to when multiplying by 4.
DATA four<>+0(SB)/8, $0x273a1d00
DATA four<>+8(SB)/8, $0
GLOBL four<>(SB), RODATA|NOPTR, $16
DATA low<>+0(SB)/8, $0x0f0f0f0f0f0f0f0f
GLOBL low<>(SB), RODATA|NOPTR, $8

// func encodeQAVX2(p, q *byte, data **byte, k, n int)
TEXT ·encodeQAVX2(SB), NOSPLIT, $0-40
	MOVQ p+0(FP), DI
	MOVQ q+8(FP), SI
	MOVQ data+16(FP), DX
	MOVQ k+24(FP), CX
	MOVQ n+32(FP), R9
	VPBROADCASTQ poly<>(SB), Y15
	VPXOR Y14, Y14, Y14
	XORQ R10, R10 // offset of the column

column:
	MOVQ CX, R11
	MOVQ -8(DX)(R11*8), R12
	VMOVDQU (R12)(R10*1), Y0
	VMOVDQU 32(R12)(R10*1), Y1
	VMOVDQA Y0, Y2
	VMOVDQA Y1, Y3
	DECQ R11
	JZ   store

strip:
	MOVQ -8(DX)(R11*8), R12
	VMOVDQU (R12)(R10*1), Y6
	VMOVDQU 32(R12)(R10*1), Y7
	VPXOR Y6, Y0, Y0
	VPXOR Y7, Y1, Y1
	VPCMPGTB Y2, Y14, Y8
	VPCMPGTB Y3, Y14, Y9
	VPADDB Y2, Y2, Y2
	VPADDB Y3, Y3, Y3
	VPAND Y15, Y8, Y8
	VPAND Y15, Y9, Y9
	VPXOR Y8, Y2, Y2
	VPXOR Y9, Y3, Y3
	VPXOR Y6, Y2, Y2
	VPXOR Y7, Y3, Y3
	DECQ R11
	JNZ  strip

store:
	VMOVDQU Y0, (DI)(R10*1)
	VMOVDQU Y1, 32(DI)(R10*1)
	VMOVDQU Y2, (SI)(R10*1)
	VMOVDQU Y3, 32(SI)(R10*1)
	ADDQ $64, R10
	CMPQ R10, R9
	JLT  column
	VZEROUPPER
	RET

// func encodeQRAVX2(p, q, r *byte, data **byte, k, n int)
TEXT ·encodeQRAVX2(SB), NOSPLIT, $0-48
	MOVQ p+0(FP), DI
	MOVQ q+8(FP), SI
	MOVQ r+16(FP), R8
	MOVQ data+24(FP), DX
	MOVQ k+32(FP), CX
	MOVQ n+40(FP), R9
	VPBROADCASTQ poly<>(SB), Y15
	VPXOR Y14, Y14, Y14
	XORQ R10, R10 // offset of the column

column:
	MOVQ CX, R11
	MOVQ -8(DX)(R11*8), R12
	VMOVDQU (R12)(R10*1), Y0
	VMOVDQU 32(R12)(R10*1), Y1
	VMOVDQA Y0, Y2
	VMOVDQA Y1, Y3
	VMOVDQA Y0, Y4
	VMOVDQA Y1, Y5
	DECQ R11
	JZ   store

strip:
	MOVQ -8(DX)(R11*8), R12
	VMOVDQU (R12)(R10*1), Y6
	VMOVDQU 32(R12)(R10*1), Y7
	VPXOR Y6, Y0, Y0
	VPXOR Y7, Y1, Y1
	VPCMPGTB Y2, Y14, Y8
	VPCMPGTB Y3, Y14, Y9
	VPADDB Y2, Y2, Y2
	VPADDB Y3, Y3, Y3
	VPAND Y15, Y8, Y8
	VPAND Y15, Y9, Y9
	VPXOR Y8, Y2, Y2
	VPXOR Y9, Y3, Y3
	VPXOR Y6, Y2, Y2
	VPXOR Y7, Y3, Y3
	VPCMPGTB Y4, Y14, Y8
	VPCMPGTB Y5, Y14, Y9
	VPADDB Y4, Y4, Y4
	VPADDB Y5, Y5, Y5
	VPAND Y15, Y8, Y8
	VPAND Y15, Y9, Y9
	VPXOR Y8, Y4, Y4
	VPXOR Y9, Y5, Y5
	VPCMPGTB Y4, Y14, Y8
	VPCMPGTB Y5, Y14, Y9
	VPADDB Y4, Y4, Y4
	VPADDB Y5, Y5, Y5
	VPAND Y15, Y8, Y8
	VPAND Y15, Y9, Y9
	VPXOR Y8, Y4, Y4
	VPXOR Y9, Y5, Y5
	VPXOR Y6, Y4, Y4
	VPXOR Y7, Y5, Y5
	DECQ R11
	JNZ  strip

store:
	VMOVDQU Y0, (DI)(R10*1)
	VMOVDQU Y1, 32(DI)(R10*1)
	VMOVDQU Y2, (SI)(R10*1)
	VMOVDQU Y3, 32(SI)(R10*1)
	VMOVDQU Y4, (R8)(R10*1)
	VMOVDQU Y5, 32(R8)(R10*1)
	ADDQ $64, R10
	CMPQ R10, R9
	JLT  column
	VZEROUPPER
	RET

// func encodeQAVX512(p, q *byte, data **byte, k, n int)
// Two columns at a time, so that one's latency hides behind the other's work; n is a multiple of 128. Multiplying by g
// takes the bytes whose top bit falls out as a mask; the XOR of the fold and of the next data is one ternary operation.
TEXT ·encodeQAVX512(SB), NOSPLIT, $0-40
	MOVQ p+0(FP), DI
	MOVQ q+8(FP), SI
	MOVQ data+16(FP), DX
	MOVQ k+24(FP), CX
	MOVQ n+32(FP), R9
	VPBROADCASTQ poly<>(SB), Z15
	XORQ R10, R10

column:
	MOVQ CX, R11
	MOVQ -8(DX)(R11*8), R12
	VMOVDQU64 (R12)(R10*1), Z0
	VMOVDQU64 64(R12)(R10*1), Z1
	VMOVDQA64 Z0, Z2
	VMOVDQA64 Z1, Z3
	DECQ R11
	JZ   store

strip:
	MOVQ -8(DX)(R11*8), R12
	VMOVDQU64 (R12)(R10*1), Z6
	VMOVDQU64 64(R12)(R10*1), Z7
	VPXORQ Z6, Z0, Z0
	VPXORQ Z7, Z1, Z1
	VPMOVB2M Z2, K1
	VPMOVB2M Z3, K2
	VPADDB Z2, Z2, Z2
	VPADDB Z3, Z3, Z3
	VMOVDQU8.Z Z15, K1, Z8
	VMOVDQU8.Z Z15, K2, Z9
	VPTERNLOGQ $0x96, Z6, Z8, Z2
	VPTERNLOGQ $0x96, Z7, Z9, Z3
	DECQ R11
	JNZ  strip

store:
	VMOVDQU64 Z0, (DI)(R10*1)
	VMOVDQU64 Z1, 64(DI)(R10*1)
	VMOVDQU64 Z2, (SI)(R10*1)
	VMOVDQU64 Z3, 64(SI)(R10*1)
	ADDQ $128, R10
	CMPQ R10, R9
	JLT  column
	VZEROUPPER
	RET

// func encodeQRAVX512(p, q, r *byte, data **byte, k, n int)
// Two columns at a time, so that one's latency hides behind the other's work; n is a multiple of 128. Multiplying by g
// takes the bytes whose top bit falls out as a mask; the XOR of the fold and of the next data is one ternary operation.
TEXT ·encodeQRAVX512(SB), NOSPLIT, $0-48
	MOVQ p+0(FP), DI
	MOVQ q+8(FP), SI
	MOVQ r+16(FP), R8
	MOVQ data+24(FP), DX
	MOVQ k+32(FP), CX
	MOVQ n+40(FP), R9
	VPBROADCASTQ poly<>(SB), Z15
	VBROADCASTI32X4 four<>(SB), Z14
	VPBROADCASTQ three<>(SB), Z13
	VPBROADCASTQ upper<>(SB), Z12
	XORQ R10, R10

column:
	MOVQ CX, R11
	MOVQ -8(DX)(R11*8), R12
	VMOVDQU64 (R12)(R10*1), Z0
	VMOVDQU64 64(R12)(R10*1), Z1
	VMOVDQA64 Z0, Z2
	VMOVDQA64 Z1, Z3
	VMOVDQA64 Z0, Z4
	VMOVDQA64 Z1, Z5
	DECQ R11
	JZ   store

strip:
	MOVQ -8(DX)(R11*8), R12
	VMOVDQU64 (R12)(R10*1), Z6
	VMOVDQU64 64(R12)(R10*1), Z7
	VPXORQ Z6, Z0, Z0
	VPXORQ Z7, Z1, Z1
	VPMOVB2M Z2, K1
	VPMOVB2M Z3, K2
	VPADDB Z2, Z2, Z2
	VPADDB Z3, Z3, Z3
	VMOVDQU8.Z Z15, K1, Z8
	VMOVDQU8.Z Z15, K2, Z9
	VPTERNLOGQ $0x96, Z6, Z8, Z2
	VPTERNLOGQ $0x96, Z7, Z9, Z3
	VPSRLW $6, Z4, Z10
	VPSLLW $2, Z4, Z4
	VPANDQ Z13, Z10, Z10
	VPSHUFB Z10, Z14, Z10
	VPXORQ Z6, Z10, Z10
	VPTERNLOGQ $0x6c, Z12, Z10, Z4
	VPSRLW $6, Z5, Z11
	VPSLLW $2, Z5, Z5
	VPANDQ Z13, Z11, Z11
	VPSHUFB Z11, Z14, Z11
	VPXORQ Z7, Z11, Z11
	VPTERNLOGQ $0x6c, Z12, Z11, Z5
	DECQ R11
	JNZ  strip

store:
	VMOVDQU64 Z0, (DI)(R10*1)
	VMOVDQU64 Z1, 64(DI)(R10*1)
	VMOVDQU64 Z2, (SI)(R10*1)
	VMOVDQU64 Z3, 64(SI)(R10*1)
	VMOVDQU64 Z4, (R8)(R10*1)
	VMOVDQU64 Z5, 64(R8)(R10*1)
	ADDQ $128, R10
	CMPQ R10, R9
	JLT  column
	VZEROUPPER
	RET

// func mulAVX2(dst, src *byte, table *[32]byte, n int, add bool)
// Products by table look-up of the low and the high four bits (byte shuffles); with add they are XORed into dst.
TEXT ·mulAVX2(SB), NOSPLIT, $0-33
	MOVQ dst+0(FP), DI
	MOVQ src+8(FP), SI
	MOVQ table+16(FP), DX
	MOVQ n+24(FP), CX
	MOVBLZX add+32(FP), AX
	VBROADCASTI128 (DX), Y0
	VBROADCASTI128 16(DX), Y1
	VPBROADCASTQ low<>(SB), Y2
	XORQ R10, R10

loop:
	VMOVDQU (SI)(R10*1), Y3
	VMOVDQU 32(SI)(R10*1), Y4
	VPSRLQ $4, Y3, Y5
	VPSRLQ $4, Y4, Y6
	VPAND Y2, Y3, Y3
	VPAND Y2, Y4, Y4
	VPAND Y2, Y5, Y5
	VPAND Y2, Y6, Y6
	VPSHUFB Y3, Y0, Y3
	VPSHUFB Y4, Y0, Y4
	VPSHUFB Y5, Y1, Y5
	VPSHUFB Y6, Y1, Y6
	VPXOR Y3, Y5, Y3
	VPXOR Y4, Y6, Y4
	TESTB AL, AL
	JZ    put
	VPXOR (DI)(R10*1), Y3, Y3
	VPXOR 32(DI)(R10*1), Y4, Y4

put:
	VMOVDQU Y3, (DI)(R10*1)
	VMOVDQU Y4, 32(DI)(R10*1)
	ADDQ $64, R10
	CMPQ R10, CX
	JLT  loop
	VZEROUPPER
	RET

// func solvePQAVX2(x, y, sp, p, sq, q *byte, tables *[64]byte, n int)
// Two unknown data strips from the sums over the known ones and the stored P and Q, in one pass:
//	a = sp XOR p;  x = c0·a XOR c1·(sq XOR q);  y = a XOR x
TEXT ·solvePQAVX2(SB), NOSPLIT, $0-64
	MOVQ x+0(FP), DI
	MOVQ y+8(FP), SI
	MOVQ sp+16(FP), R8
	MOVQ p+24(FP), R9
	MOVQ sq+32(FP), R11
	MOVQ q+40(FP), R12
	MOVQ tables+48(FP), DX
	MOVQ n+56(FP), CX
	VBROADCASTI128 (DX), Y0
	VBROADCASTI128 16(DX), Y1
	VBROADCASTI128 32(DX), Y2
	VBROADCASTI128 48(DX), Y3
	VPBROADCASTQ low<>(SB), Y4
	XORQ R10, R10

solve:
	VMOVDQU (R8)(R10*1), Y5
	VMOVDQU (R11)(R10*1), Y6
	VMOVDQU 32(R8)(R10*1), Y9
	VMOVDQU 32(R11)(R10*1), Y10
	VPXOR (R9)(R10*1), Y5, Y5
	VPXOR (R12)(R10*1), Y6, Y6
	VPXOR 32(R9)(R10*1), Y9, Y9
	VPXOR 32(R12)(R10*1), Y10, Y10
	VPSRLQ $4, Y5, Y7
	VPAND Y4, Y5, Y8
	VPAND Y4, Y7, Y7
	VPSHUFB Y8, Y0, Y8
	VPSHUFB Y7, Y1, Y7
	VPXOR Y7, Y8, Y11
	VPSRLQ $4, Y6, Y7
	VPAND Y4, Y6, Y8
	VPAND Y4, Y7, Y7
	VPSHUFB Y8, Y2, Y8
	VPSHUFB Y7, Y3, Y7
	VPXOR Y7, Y8, Y8
	VPXOR Y8, Y11, Y11
	VMOVDQU Y11, (DI)(R10*1)
	VPXOR Y5, Y11, Y11
	VMOVDQU Y11, (SI)(R10*1)
	VPSRLQ $4, Y9, Y7
	VPAND Y4, Y9, Y8
	VPAND Y4, Y7, Y7
	VPSHUFB Y8, Y0, Y8
	VPSHUFB Y7, Y1, Y7
	VPXOR Y7, Y8, Y11
	VPSRLQ $4, Y10, Y7
	VPAND Y4, Y10, Y8
	VPAND Y4, Y7, Y7
	VPSHUFB Y8, Y2, Y8
	VPSHUFB Y7, Y3, Y7
	VPXOR Y7, Y8, Y8
	VPXOR Y8, Y11, Y11
	VMOVDQU Y11, 32(DI)(R10*1)
	VPXOR Y9, Y11, Y11
	VMOVDQU Y11, 32(SI)(R10*1)
	ADDQ $64, R10
	CMPQ R10, CX
	JLT  solve
	VZEROUPPER
	RET

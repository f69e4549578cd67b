#include "textflag.h"

// The compression function of BLAKE3 (section 2.2 of its specification) for 16 blocks at once: the
// register Zn has word n of each, one lane for each block. Z0 to Z15 are the state, Z16 to Z31
// the message.

// Offsets of the fields of the struct lanes, in bytes.
#define BLOCK 0
#define LOW 128
#define HIGH 192
#define START 256
#define END 320
#define LAST 384
#define REST 448
#define SUM 512
#define TO 1024

// The first words of the state are those of SHA-256.
DATA iv<>+0(SB)/4, $0x6a09e667
DATA iv<>+4(SB)/4, $0xbb67ae85
DATA iv<>+8(SB)/4, $0x3c6ef372
DATA iv<>+12(SB)/4, $0xa54ff53a
DATA iv<>+16(SB)/4, $0x510e527f
DATA iv<>+20(SB)/4, $0x9b05688c
DATA iv<>+24(SB)/4, $0x1f83d9ab
DATA iv<>+28(SB)/4, $0x5be0cd19
GLOBL iv<>(SB), RODATA|NOPTR, $32

DATA full<>+0(SB)/4, $64
GLOBL full<>(SB), RODATA|NOPTR, $4

// QUARTERS reads four words, n bytes from the beginning of a block, of each of four lanes: the second,
// third and fourth quarter of a register are selected by K1, K2 and K3.
#define QUARTERS(n, x) \
	VBROADCASTI32X4 n(R8)(DX*1), x; \
	VBROADCASTI32X4 n(R9)(DX*1), K1, x; \
	VBROADCASTI32X4 n(R10)(DX*1), K2, x; \
	VBROADCASTI32X4 n(R11)(DX*1), K3, x

// LOAD reads the blocks of lanes i, i+4, i+8 and i+12: a has the first four words of each, b the next
// four.
#define LOAD(i, a, b, c, d) \
	MOVQ (BLOCK + 8*(i))(SI), R8; \
	MOVQ (BLOCK + 8*(i+4))(SI), R9; \
	MOVQ (BLOCK + 8*(i+8))(SI), R10; \
	MOVQ (BLOCK + 8*(i+12))(SI), R11; \
	QUARTERS(0, a); \
	QUARTERS(16, b); \
	QUARTERS(32, c); \
	QUARTERS(48, d)

// TURN transposes 4 by 4 words in each quarter, so that a has one word of all lanes, b the next one;
// or the other way round.
#define TURN(a, b, c, d) \
	VPUNPCKLDQ b, a, Z8; \
	VPUNPCKHDQ b, a, Z9; \
	VPUNPCKLDQ d, c, Z10; \
	VPUNPCKHDQ d, c, Z11; \
	VPUNPCKLQDQ Z10, Z8, a; \
	VPUNPCKHQDQ Z10, Z8, b; \
	VPUNPCKLQDQ Z11, Z9, c; \
	VPUNPCKHQDQ Z11, Z9, d

// STORE writes the chaining values of lanes i, i+4, i+8 and i+12: a has the first four words of each, b
// the others.
#define STORE(i, a, b) \
	MOVQ (TO + 8*(i))(SI), R8; \
	MOVQ (TO + 8*(i+4))(SI), R9; \
	MOVQ (TO + 8*(i+8))(SI), R10; \
	MOVQ (TO + 8*(i+12))(SI), R11; \
	VEXTRACTI32X4 $0, a, (R8); \
	VEXTRACTI32X4 $0, b, 16(R8); \
	VEXTRACTI32X4 $1, a, (R9); \
	VEXTRACTI32X4 $1, b, 16(R9); \
	VEXTRACTI32X4 $2, a, (R10); \
	VEXTRACTI32X4 $2, b, 16(R10); \
	VEXTRACTI32X4 $3, a, (R11); \
	VEXTRACTI32X4 $3, b, 16(R11)

// ADD4 adds x to y.
#define ADD4(x0, x1, x2, x3, y0, y1, y2, y3) \
	VPADDD x0, y0, y0; \
	VPADDD x1, y1, y1; \
	VPADDD x2, y2, y2; \
	VPADDD x3, y3, y3

// TWIST4 combines y with x by exclusive or, and rotates it by n bits to the right.
#define TWIST4(n, x0, x1, x2, x3, y0, y1, y2, y3) \
	VPXORD x0, y0, y0; \
	VPXORD x1, y1, y1; \
	VPXORD x2, y2, y2; \
	VPXORD x3, y3, y3; \
	VPRORD n, y0, y0; \
	VPRORD n, y1, y1; \
	VPRORD n, y2, y2; \
	VPRORD n, y3, y3

// HALF is one half of the quarter round G for four columns, or diagonals, at once.
#define HALF(p, q, b0, b1, b2, b3, c0, c1, c2, c3, d0, d1, d2, d3, m0, m1, m2, m3) \
	ADD4(m0, m1, m2, m3, Z0, Z1, Z2, Z3); \
	ADD4(b0, b1, b2, b3, Z0, Z1, Z2, Z3); \
	TWIST4(p, Z0, Z1, Z2, Z3, d0, d1, d2, d3); \
	ADD4(d0, d1, d2, d3, c0, c1, c2, c3); \
	TWIST4(q, c0, c1, c2, c3, b0, b1, b2, b3)

// ROUND mixes columns, then diagonals, with the words of the message in this order.
#define ROUND(m0, m1, m2, m3, m4, m5, m6, m7, m8, m9, m10, m11, m12, m13, m14, m15) \
	HALF($16, $12, Z4, Z5, Z6, Z7, Z8, Z9, Z10, Z11, Z12, Z13, Z14, Z15, m0, m2, m4, m6); \
	HALF($8, $7, Z4, Z5, Z6, Z7, Z8, Z9, Z10, Z11, Z12, Z13, Z14, Z15, m1, m3, m5, m7); \
	HALF($16, $12, Z5, Z6, Z7, Z4, Z10, Z11, Z8, Z9, Z15, Z12, Z13, Z14, m8, m10, m12, m14); \
	HALF($8, $7, Z5, Z6, Z7, Z4, Z10, Z11, Z8, Z9, Z15, Z12, Z13, Z14, m9, m11, m13, m15)

// func run(l *lanes, blocks uint64)
//
// K4 selects the lanes of which this block is the last one.
TEXT ·run(SB), NOSPLIT, $0-16
	MOVQ l+0(FP), SI
	MOVQ blocks+8(FP), CX
	MOVL $0x00F0, AX
	KMOVW AX, K1
	MOVL $0x0F00, AX
	KMOVW AX, K2
	MOVL $0xF000, AX
	KMOVW AX, K3
	XORQ DX, DX
	XORQ BX, BX
	VPBROADCASTD iv<>+0(SB), Z0
	VPBROADCASTD iv<>+4(SB), Z1
	VPBROADCASTD iv<>+8(SB), Z2
	VPBROADCASTD iv<>+12(SB), Z3
	VPBROADCASTD iv<>+16(SB), Z4
	VPBROADCASTD iv<>+20(SB), Z5
	VPBROADCASTD iv<>+24(SB), Z6
	VPBROADCASTD iv<>+28(SB), Z7

next:
	LOAD(0, Z16, Z20, Z24, Z28)
	LOAD(1, Z17, Z21, Z25, Z29)
	LOAD(2, Z18, Z22, Z26, Z30)
	LOAD(3, Z19, Z23, Z27, Z31)
	TURN(Z16, Z17, Z18, Z19)
	TURN(Z20, Z21, Z22, Z23)
	TURN(Z24, Z25, Z26, Z27)
	TURN(Z28, Z29, Z30, Z31)

	VPXORD Z15, Z15, Z15
	TESTQ BX, BX
	JNZ later
	VMOVDQU32 START(SI), Z15
later:
	VPBROADCASTD BX, Z12
	VPCMPEQD LAST(SI), Z12, K4
	VPORD END(SI), Z15, K4, Z15
	VPBROADCASTD full<>(SB), Z14
	VMOVDQU32 REST(SI), K4, Z14
	VMOVDQU32 LOW(SI), Z12
	VMOVDQU32 HIGH(SI), Z13
	VPBROADCASTD iv<>+0(SB), Z8
	VPBROADCASTD iv<>+4(SB), Z9
	VPBROADCASTD iv<>+8(SB), Z10
	VPBROADCASTD iv<>+12(SB), Z11

	ROUND(Z16, Z17, Z18, Z19, Z20, Z21, Z22, Z23, Z24, Z25, Z26, Z27, Z28, Z29, Z30, Z31)
	ROUND(Z18, Z22, Z19, Z26, Z23, Z16, Z20, Z29, Z17, Z27, Z28, Z21, Z25, Z30, Z31, Z24)
	ROUND(Z19, Z20, Z26, Z28, Z29, Z18, Z23, Z30, Z22, Z21, Z25, Z16, Z27, Z31, Z24, Z17)
	ROUND(Z26, Z23, Z28, Z25, Z30, Z19, Z29, Z31, Z20, Z16, Z27, Z18, Z21, Z24, Z17, Z22)
	ROUND(Z28, Z29, Z25, Z27, Z31, Z26, Z30, Z24, Z23, Z18, Z21, Z19, Z16, Z17, Z22, Z20)
	ROUND(Z25, Z30, Z27, Z21, Z24, Z28, Z31, Z17, Z29, Z19, Z16, Z26, Z18, Z22, Z20, Z23)
	ROUND(Z27, Z31, Z21, Z16, Z17, Z25, Z24, Z22, Z30, Z26, Z18, Z28, Z19, Z20, Z23, Z29)

	VPXORD Z8, Z0, Z0
	VPXORD Z9, Z1, Z1
	VPXORD Z10, Z2, Z2
	VPXORD Z11, Z3, Z3
	VPXORD Z12, Z4, Z4
	VPXORD Z13, Z5, Z5
	VPXORD Z14, Z6, Z6
	VPXORD Z15, Z7, Z7

	KORTESTW K4, K4
	JZ none
	VMOVDQU32 Z0, K4, (SUM + 0*64)(SI)
	VMOVDQU32 Z1, K4, (SUM + 1*64)(SI)
	VMOVDQU32 Z2, K4, (SUM + 2*64)(SI)
	VMOVDQU32 Z3, K4, (SUM + 3*64)(SI)
	VMOVDQU32 Z4, K4, (SUM + 4*64)(SI)
	VMOVDQU32 Z5, K4, (SUM + 5*64)(SI)
	VMOVDQU32 Z6, K4, (SUM + 6*64)(SI)
	VMOVDQU32 Z7, K4, (SUM + 7*64)(SI)
none:
	ADDQ $64, DX
	INCQ BX
	CMPQ BX, CX
	JB next

	VMOVDQU32 (SUM + 0*64)(SI), Z0
	VMOVDQU32 (SUM + 1*64)(SI), Z1
	VMOVDQU32 (SUM + 2*64)(SI), Z2
	VMOVDQU32 (SUM + 3*64)(SI), Z3
	VMOVDQU32 (SUM + 4*64)(SI), Z4
	VMOVDQU32 (SUM + 5*64)(SI), Z5
	VMOVDQU32 (SUM + 6*64)(SI), Z6
	VMOVDQU32 (SUM + 7*64)(SI), Z7
	TURN(Z0, Z1, Z2, Z3)
	TURN(Z4, Z5, Z6, Z7)
	STORE(0, Z0, Z4)
	STORE(1, Z1, Z5)
	STORE(2, Z2, Z6)
	STORE(3, Z3, Z7)
	VZEROUPPER
	RET

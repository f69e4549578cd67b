#include "textflag.h"

// func pair(from *byte, places, distance int, first, second byte) int
TEXT ·pair(SB), NOSPLIT, $0-40
	MOVQ         from+0(FP), SI
	MOVQ         places+8(FP), CX
	MOVQ         distance+16(FP), DX
	VPBROADCASTB first+24(FP), Y0
	VPBROADCASTB second+25(FP), Y1
	ADDQ         SI, DX
	XORQ         AX, AX

next:
	VPCMPEQB  (SI)(AX*1), Y0, Y2
	VPCMPEQB  (DX)(AX*1), Y1, Y3
	VPAND     Y2, Y3, Y2
	VPMOVMSKB Y2, BX
	TESTL     BX, BX
	JNZ       found
	ADDQ      $32, AX
	CMPQ      AX, CX
	JLT       next
	MOVQ      $-1, AX
	VZEROUPPER
	MOVQ      AX, ret+32(FP)
	RET

found:
	BSFL BX, BX
	ADDQ BX, AX
	VZEROUPPER
	MOVQ AX, ret+32(FP)
	RET

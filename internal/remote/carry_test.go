package remote

import (
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

func blobsOfSizes(n int, size func(i int) int64) (list []protocol.Blob) {
	for i := range n {
		list = append(list, protocol.Blob{Digest: digest.Of([]byte{byte(i), byte(i >> 8), byte(i >> 16)}), Size: size(i)})
	}
	return list
}

func bytesOf(list []protocol.Blob) (sum int64) {
	for _, b := range list {
		sum += max(b.Size, 0)
	}
	return sum
}

func TestPacksStayWithinTheirBounds(t *testing.T) {
	blobs := append(blobsOfSizes(5000, func(i int) int64 { return int64(i % 300_000) }),
		protocol.Blob{Digest: digest.Of([]byte("large")), Size: 5 << 20},
		protocol.Blob{Digest: digest.Of([]byte("unknown")), Size: -1},
	)
	for name, by := range map[string]portions{"uploads": uploadPortions, "fetches": fetchPortions} {
		together, alone := by.packs(blobs)
		n := len(alone)
		for _, p := range together {
			if len(p) > packMembers || bytesOf(p) > largestPack || len(p) == 0 {
				t.Errorf("%s: a pack of %d members and %d bytes", name, len(p), bytesOf(p))
			}
			n += len(p)
		}
		if n != len(blobs) {
			t.Errorf("%s: %d of %d travel", name, n, len(blobs))
		}
		for _, b := range alone {
			if b.Size <= protocol.PackedBlob {
				t.Errorf("%s: a blob of %d bytes travels alone", name, b.Size)
			}
		}
	}
}

// A pack is a request, and an object of the service. The last ones of a fetch are small, so that the
// connections end at about the same time.
func TestPacksAreFewAndTheLastOnesSmall(t *testing.T) {
	for _, c := range []struct {
		blobs int
		size  int64
	}{{10_000, 200}, {10_000, 2000}, {10_000, 50_000}, {100_000, 2000}, {500, 50_000}} {
		blobs := blobsOfSizes(c.blobs, func(int) int64 { return c.size })
		uploads, _ := uploadPortions.packs(blobs)
		fetches, _ := fetchPortions.packs(blobs)
		if len(uploads) > 16 || len(fetches) > 18 {
			t.Errorf("%+v: %d uploads, %d fetches", c, len(uploads), len(fetches))
		}
		for _, p := range fetches[len(fetches)-2:] {
			if n := bytesOf(p); n > max(fetchPortions.smallest, bytesOf(blobs)/90) {
				t.Errorf("%+v: %d bytes of %d in one of the last packs", c, n, bytesOf(blobs))
			}
		}
	}
}

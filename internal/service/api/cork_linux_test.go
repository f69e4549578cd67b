package api_test

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"grayloft.example/grayloft/internal/core/digest"
)

func TestTheHeadOfABlobTravelsWithItsContents(t *testing.T) {
	c := newCaller(t, ci)
	text := bytes.Repeat([]byte("tide "), 1000)
	path := "/v1/" + c.s.Repo + "/blobs/" + digest.Of(text).String()
	c.want(204, "PUT", path, text)
	conn, err := net.Dial("tcp", strings.TrimPrefix(c.s.URL, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	const times = 20
	for range times {
		fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: loft\r\nAuthorization: Bearer %s\r\n\r\n", path, c.token)
		var got bytes.Buffer
		for !strings.HasSuffix(got.String(), "\r\n\r\n"+string(text)) {
			if _, err := io.CopyN(&got, conn, 1); err != nil {
				t.Fatalf("%q, %v", got.String(), err)
			}
		}
	}
	raw, err := conn.(*net.TCPConn).SyscallConn()
	if err != nil {
		t.Fatal(err)
	}
	if err := raw.Control(func(fd uintptr) {
		info, err := unix.GetsockoptTCPInfo(int(fd), unix.IPPROTO_TCP, unix.TCP_INFO)
		if err != nil || info.Data_segs_in != times {
			t.Errorf("%d answers came in %d packets, %v", times, info.Data_segs_in, err)
		}
	}); err != nil {
		t.Error(err)
	}
}

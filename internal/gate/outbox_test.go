package gate

import (
	"net"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
)

// An address that takes connections and says nothing holds up its own calls alone: the others
// are heard at once, and it is not called for each that waits.
func TestASilentAddressHoldsUpNobody(t *testing.T) {
	t.Parallel()
	r := newRig(t)
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer silent.Close()
	called := make(chan net.Conn, 100)
	go func() {
		for {
			c, err := silent.Accept()
			if err != nil {
				return
			}
			called <- c
		}
	}()
	heard := make(chan string, 100)
	hears := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		if heard <- req.URL.Path; req.URL.Path == "/refused" {
			w.WriteHeader(http.StatusBadRequest)
		}
	}))
	defer hears.Close()
	put := func(address string) {
		require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error {
			return r.Outbox.Put(tx, crossing.Queue{Address: address, Until: r.clock.get().Add(time.Hour)})
		}))
	}
	for range 30 {
		put("http://" + silent.Addr().String() + "/x")
	}
	put(hears.URL + "/refused")
	put(hears.URL + "/a")
	first := make(chan error, 1)
	go func() { first <- r.Outbox.SendDue(ctx) }()
	require.Equal(t, "/refused", <-heard)
	require.Equal(t, "/a", <-heard, "who refuses one call may take the next")
	put(hears.URL + "/b")
	began := time.Now()
	require.NoError(t, r.Outbox.SendDue(ctx), "a round later")
	require.Equal(t, "/b", <-heard)
	require.Less(t, time.Since(began), 5*time.Second)
	require.NoError(t, <-first)
	require.Len(t, called, 1)
	n, err := r.Outbox.Waits(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 31, n, "they are tried again later")
	require.NoError(t, r.Outbox.SendDue(ctx))
	require.Len(t, called, 1, "after a pause")
}

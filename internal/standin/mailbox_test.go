package standin

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/smtp"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The stand-in mailbox takes what any program hands in, whoever it is for, shows it as text,
// and fails in the ways that are switched on.
func TestMailbox(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	box := &Mailbox{}
	box.Start(ln)
	srv := httptest.NewServer(box.Handler())
	defer func() { srv.Close(); require.NoError(t, box.Close()) }()
	send := func(to, body string) error {
		return smtp.SendMail(ln.Addr().String(), nil, "gate@wrenmoor.example", []string{to},
			[]byte("From: gate@wrenmoor.example\r\nTo: "+to+
				"\r\nSubject: Hello\r\n"+body))
	}
	require.NoError(t, send("a@x.example", "\r\nplain\r\n"))
	require.NoError(t, send("b@x.example", "Content-Transfer-Encoding: quoted-printable\r\n\r\nPetr=C3=A1k\r\n"))
	require.Error(t, send("c@x.example", "no header at all"))
	letters := func() (out []Letter) {
		res, err := http.Get(srv.URL + "/letters")
		require.NoError(t, err)
		defer res.Body.Close()
		require.NoError(t, json.NewDecoder(res.Body).Decode(&out))
		return out
	}
	all := letters()
	require.Len(t, all, 2)
	require.Equal(t, []string{"b@x.example", "Hello", "Petrák\r\n"}, []string{all[1].To, all[1].Subject, all[1].Text})
	for fault, want := range map[string]string{"refuse": "550", "later": "451"} {
		res, err := http.PostForm(srv.URL+"/fault", url.Values{"fault": {fault}})
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		require.ErrorContains(t, send("d@x.example", "\r\nx\r\n"), want)
	}
	res, err := http.PostForm(srv.URL+"/fault", url.Values{"fault": {"explode"}})
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Equal(t, http.StatusBadRequest, res.StatusCode)
	res, err = http.PostForm(srv.URL+"/fault", url.Values{"fault": {"silent"}})
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	c, err := net.Dial("tcp", ln.Addr().String())
	require.NoError(t, err)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(200*time.Millisecond)))
	_, err = c.Read(make([]byte, 1))
	require.Error(t, err, "it says nothing")
	require.NoError(t, c.Close())
	res, err = http.PostForm(srv.URL+"/fault", url.Values{})
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	for i := range mostLetters + 5 {
		require.NoError(t, send(fmt.Sprintf("n%d@x.example", i), "\r\nx\r\n"))
	}
	require.Len(t, letters(), mostLetters, "the newest ones")
}

package main

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"sync/atomic"

	"github.com/rogpeppe/go-internal/testscript"
)

// receive starts a web receiver that keeps what it is sent, whole requests
// numbered from 1: receive VARIABLE FOLDER [STATUS …]. VARIABLE gets its
// address; the statuses are answered one after the other, the last for ever.
func receive(ts *testscript.TestScript, _ bool, args []string) {
	folder := ts.MkAbs(args[1])
	ts.Check(os.MkdirAll(folder, 0o777))
	var count atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := int(count.Add(1))
		var request bytes.Buffer
		fmt.Fprintf(&request, "%s %s\n", r.Method, r.URL.RequestURI())
		_ = r.Header.Write(&request)
		body, err := io.ReadAll(r.Body)
		if err == nil {
			request.WriteString("\n" + string(body))
			err = os.WriteFile(filepath.Join(folder, strconv.Itoa(n)),
				bytes.ReplaceAll(request.Bytes(), []byte("\r\n"), []byte("\n")), 0o666)
		}
		status := http.StatusOK
		if statuses := args[2:]; len(statuses) > 0 {
			status, err = strconv.Atoi(statuses[min(n, len(statuses))-1])
		}
		if err != nil {
			status = http.StatusInternalServerError
		}
		w.WriteHeader(status)
		fmt.Fprintf(w, "receipt %d\n", n)
	}))
	ts.Defer(server.Close)
	ts.Setenv(args[0], server.URL)
}

// bundle makes a zip: bundle ARCHIVE NAME=FILE ….
func bundle(ts *testscript.TestScript, _ bool, args []string) {
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	for _, arg := range args[1:] {
		name, file, ok := bytes.Cut([]byte(arg), []byte("="))
		if !ok {
			ts.Fatalf("bundle ARCHIVE NAME=FILE …")
		}
		w, err := z.Create(string(name))
		ts.Check(err)
		_, err = w.Write([]byte(ts.ReadFile(string(file))))
		ts.Check(err)
	}
	ts.Check(z.Close())
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), buf.Bytes(), 0o666))
}

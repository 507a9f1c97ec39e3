package tell

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"
)

// SignatureHeader of a call says when it was made, and an HMAC-SHA256 (RFC 2104) by the secret over that, a dot and the
// body: t=SECONDS,v1=HEX. Whoever is called compares it, and refuses what is older than some minutes.
const SignatureHeader = "Unvora-Signature"

// Sign makes the signature of a call.
func Sign(secret []byte, at time.Time, body []byte) string {
	mac := hmac.New(sha256.New, secret)
	seconds := strconv.FormatInt(at.Unix(), 10)
	mac.Write([]byte(seconds + "."))
	mac.Write(body)
	return "t=" + seconds + ",v1=" + hex.EncodeToString(mac.Sum(nil))
}

// caller follows nobody elsewhere: an administrator named this address, and no other.
var caller = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// mostAnswer is how much of an answer is read, in bytes.
const mostAnswer = 4 << 10

// call posts words to a web address.
func call(ctx context.Context, address string, secret []byte, w *words) error {
	body, err := json.Marshal(w)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("User-Agent", "unvora")
	req.Header.Set(SignatureHeader, Sign(secret, time.Now(), body))
	res, err := caller.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, mostAnswer))
	if res.StatusCode < 200 || res.StatusCode > 299 {
		return fmt.Errorf("%s answered %s", req.URL.Host, res.Status)
	}
	return nil
}

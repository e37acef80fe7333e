package demo

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/smtp"
	"net/url"
	"os"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/mongo"
)

// Deposit is what a borrower pays until the tool is back.
type Deposit struct {
	Charge   string `json:"charge" bson:"_id"`
	Tool     string `json:"tool" bson:"tool"`
	Borrower string `json:"borrower" bson:"borrower"`
	Mail     string `json:"mail" bson:"mail"`
	Amount   int    `json:"amount" bson:"amount"`
}

// deposit is a function: it says how much is to be left for a tool (RFC 3875).
func deposit(context.Context) error {
	b, err := io.ReadAll(os.Stdin)
	var d Deposit
	if err == nil {
		err = json.Unmarshal(b, &d)
	}
	if err != nil || d.Tool == "" {
		fmt.Print("Status: 400 Bad Request\r\nContent-Type: text/plain\r\n\r\nwhich tool?\n")
		return nil
	}
	fmt.Fprintf(os.Stderr, "a deposit for the %s\n", d.Tool)
	fmt.Printf("Content-Type: application/json\r\n\r\n{\"amount\": %d}\n", 10+5*(len(d.Tool)%7))
	return nil
}

// post sends JSON, with the id of the request that led to it, and reads the answer.
func post(ctx context.Context, address, trace string, in, out any) error {
	b, err := json.Marshal(in)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(b))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	if trace != "" {
		r.Header.Set("X-Request-Id", trace)
	}
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		return fmt.Errorf("%s answers %s", r.URL.Host, resp.Status)
	}
	if b, err = io.ReadAll(resp.Body); err != nil {
		return err
	}
	return json.Unmarshal(b, out)
}

// takeDeposit has the provider of payments charge a borrower.
func takeDeposit(w http.ResponseWriter, r *http.Request) {
	var d Deposit
	if err := json.NewDecoder(r.Body).Decode(&d); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	trace := r.Header.Get("X-Request-Id")
	var charge struct{ ID string }
	err := post(r.Context(), os.Getenv("CHORES_URL")+"/deposit", trace, d, &d)
	if err == nil {
		err = post(r.Context(), os.Getenv("PAYMENTS_URL")+"/charges", trace, d, &charge)
	}
	if err != nil {
		warn("the deposit is not taken", "error", err)
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	say("a deposit is asked for", "tool", d.Tool, "amount", d.Amount)
	w.WriteHeader(http.StatusAccepted)
	_ = json.NewEncoder(w).Encode(map[string]any{"charge": charge.ID, "amount": d.Amount})
}

// genuine reports whether a webhook is the provider's (Standard Webhooks 1.0).
func genuine(h http.Header, body []byte) bool {
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(os.Getenv("PAYMENTS_WEBHOOK_SECRET"), "whsec_"))
	if err != nil {
		return false
	}
	m := hmac.New(sha256.New, key)
	fmt.Fprintf(m, "%s.%s.%s", h.Get("webhook-id"), h.Get("webhook-timestamp"), body)
	return hmac.Equal([]byte(h.Get("webhook-signature")), []byte("v1,"+base64.StdEncoding.EncodeToString(m.Sum(nil))))
}

// paid takes the webhook that says that a deposit was paid.
func paid(deposits *mongo.Collection) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		b, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
		if err != nil || !genuine(r.Header, b) {
			http.Error(w, "the signature is not the provider's", http.StatusForbidden)
			return
		}
		var d Deposit
		if err := json.Unmarshal(b, &d); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		// It may be told twice.
		if _, err := deposits.InsertOne(r.Context(), d); err != nil && !mongo.IsDuplicateKeyError(err) {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		say("a deposit is paid", "tool", d.Tool, "borrower", d.Borrower)
		w.WriteHeader(http.StatusNoContent)
	}
}

// receipt writes to who has paid a deposit: the errand of a trigger.
func receipt(context.Context) error {
	b, err := os.ReadFile(os.Getenv("EVENT_FILE"))
	if err != nil {
		return errors.New("nobody has paid; the trigger runs it when somebody has")
	}
	var event struct {
		Deposit struct {
			Deposit
			ID string `json:"_id"`
		} `json:"document"`
	}
	if err := json.Unmarshal(b, &event); err != nil {
		return err
	}
	d := event.Deposit.Deposit
	u, err := url.Parse(os.Getenv("SMTP_URL"))
	if err != nil {
		return err
	}
	text := fmt.Sprintf("From: Toolshed <%s>\r\nTo: %s <%s>\r\nSubject: Your deposit for the %s\r\nDate: %s\r\n\r\nDear %s,\r\n\r\nwe have your deposit of %d euros. You get it back with the %s.\r\n",
		os.Getenv("SENDER"), d.Borrower, d.Mail, d.Tool, time.Now().Format(time.RFC1123Z), d.Borrower, d.Amount, d.Tool)
	if err := smtp.SendMail(u.Host, nil, os.Getenv("SENDER"), []string{d.Mail}, []byte(text)); err != nil {
		return errors.New("the mail is not sent: " + err.Error())
	}
	fmt.Printf("a receipt for %s: %d euros for the %s\n", d.Borrower, d.Amount, d.Tool)
	return nil
}

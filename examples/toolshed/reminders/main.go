// Reminders writes to neighbours whose tools are overdue.
package main

import (
	"encoding/json"
	"fmt"
	"log"
	"net/http"
	"net/smtp"
	"net/url"
	"os"
	"time"
)

type tool struct {
	Name     string
	Borrower string
	Mail     string
	Due      time.Time
}

func main() {
	log.SetFlags(0)
	server, err := url.Parse(os.Getenv("SMTP_URL"))
	if err != nil {
		log.Fatal(err)
	}
	log.Print("watching for overdue loans")
	for reminded := map[string]bool{}; ; time.Sleep(5 * time.Second) {
		late, err := overdue()
		if err != nil {
			log.Print(err)
			continue
		}
		for _, t := range late {
			if reminded[t.Name] {
				continue
			}
			if err := remind(server.Host, t); err != nil {
				log.Print(err)
				continue
			}
			reminded[t.Name] = true
			log.Printf("reminded %s of the %s", t.Borrower, t.Name)
		}
	}
}

func overdue() ([]tool, error) {
	resp, err := http.Get(os.Getenv("API_URL") + "/tools")
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	var all, late []tool
	if err := json.NewDecoder(resp.Body).Decode(&all); err != nil {
		return nil, err
	}
	for _, t := range all {
		if !t.Due.IsZero() && t.Due.Before(time.Now()) {
			late = append(late, t)
		}
	}
	return late, nil
}

func remind(server string, t tool) error {
	sender := os.Getenv("SENDER")
	text := fmt.Sprintf("From: Toolshed <%s>\r\nTo: %s <%s>\r\nSubject: Please bring back the %s\r\n\r\nDear %s,\r\n\r\nthe %s was due on %s.\r\n",
		sender, t.Borrower, t.Mail, t.Name, t.Borrower, t.Name, t.Due.Format("2 January"))
	return smtp.SendMail(server, nil, sender, []string{t.Mail}, []byte(text))
}

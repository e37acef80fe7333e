package mail

import "neighbour/internal/core/kind"

// Hints say how it is found in a project.
func (Kind) Hints() kind.Hints {
	return kind.Hints{
		Title: "SMTP servers", Name: "mail",
		Libraries: []string{"nodemailer", "phpmailer/phpmailer", "symfony/mailer", "github.com/emersion/go-smtp", "github.com/wneessen/go-mail", "aiosmtplib"},
		Schemes:   []string{"smtp"},
		Ports:     []int{25, 587, 1025, 2525},
		Words:     []string{"SMTP", "MAIL", "EMAIL", "MAILER"},
		Variable:  "SMTP_URL", Address: "smtp_url",
		Offered: true,
	}
}

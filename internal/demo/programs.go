package demo

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"log/slog"
	"net"
	"net/http"
	"net/smtp"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"go.mongodb.org/mongo-driver/v2/mongo"

	"neighbour/internal/core/project"
)

var programs = map[string]func(context.Context) error{
	"ledger": ledger, "shelf": shelf, "stocktake": stocktake, "api": serveAPI, "web": web, "reminders": reminders,
	"index": index, "members": members, "overdue": overdue, "remind": remind, "deposit": deposit, "receipt": receipt,
	"sorter": sorter, "scales": scales, "camera": camera, "stranger": stranger,
}

// RunProgram runs one of the demo's programs until the context ends.
func RunProgram(ctx context.Context, name string) error {
	run, ok := programs[name]
	if !ok {
		return fmt.Errorf("the demo has no program %q", name)
	}
	switch name { // each prints as programs of its sort do
	case "api":
		speech = slog.New(slog.NewJSONHandler(os.Stdout, nil))
	case "ledger", "reminders":
		speech = slog.New(slog.NewTextHandler(os.Stdout, nil))
	}
	return run(ctx)
}

// Tool is something that can be borrowed.
type Tool struct {
	Name     string    `json:"name"`
	Shelf    string    `json:"shelf"`
	Borrower string    `json:"borrower,omitempty"`
	Mail     string    `json:"mail,omitempty"`
	Due      time.Time `json:"due,omitzero"`
}

// speech is how a program prints; nil: lines of plain text.
var speech *slog.Logger

// say prints what happens, with values and their names.
func say(text string, values ...any) { speak(slog.LevelInfo, text, values...) }

// warn prints what should not be.
func warn(text string, values ...any) { speak(slog.LevelWarn, text, values...) }

func speak(level slog.Level, text string, values ...any) {
	if speech != nil {
		speech.Log(context.Background(), level, text, values...)
		return
	}
	if level > slog.LevelInfo {
		text = "warning: " + text
	}
	for i := 0; i+1 < len(values); i += 2 {
		text += fmt.Sprintf(" %v=%v", values[i], values[i+1])
	}
	fmt.Println(text)
}

// warmUp takes as long as a program of its size does.
func warmUp(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// listenHTTP serves until the context ends, and says so for each request
// that isn't a check.
func listenHTTP(ctx context.Context, port string, mux *http.ServeMux) error {
	server := &http.Server{Addr: "127.0.0.1:" + port, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := time.Now()
		mux.ServeHTTP(w, r)
		if r.URL.Path != "/healthz" {
			say(r.Method+" "+r.URL.Path, "took", time.Since(began).Round(time.Microsecond).String())
		}
	})}
	go func() {
		<-ctx.Done()
		say("closing")
		grace, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = server.Shutdown(grace)
	}()
	say("listening on " + server.Addr)
	if err := server.ListenAndServe(); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func healthz(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "well") }

// ledger keeps the tools in a file.
func ledger(ctx context.Context) error {
	var mu sync.Mutex
	tools := []Tool{}
	if b, err := os.ReadFile(os.Getenv("LEDGER_FILE")); err == nil {
		if err := json.Unmarshal(b, &tools); err != nil {
			return err
		}
	}
	say("opened the ledger", "tools", len(tools))
	warmUp(ctx, 320*time.Millisecond)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /healthz", healthz)
	mux.HandleFunc("GET /tools", func(w http.ResponseWriter, _ *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		_ = json.NewEncoder(w).Encode(tools)
	})
	mux.HandleFunc("POST /tools", func(w http.ResponseWriter, r *http.Request) {
		var t Tool
		if err := json.NewDecoder(r.Body).Decode(&t); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		mu.Lock()
		defer mu.Unlock()
		tools = slices.DeleteFunc(tools, func(o Tool) bool { return o.Name == t.Name })
		tools = append(tools, t)
		b, _ := json.Marshal(tools)
		if err := os.WriteFile(os.Getenv("LEDGER_FILE"), b, 0o600); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
		}
	})
	return listenHTTP(ctx, os.Getenv("PORT"), mux)
}

// shelf answers each line with itself.
func shelf(ctx context.Context) error {
	warmUp(ctx, 90*time.Millisecond)
	l, err := net.Listen("tcp", "127.0.0.1:"+os.Getenv("PORT"))
	if err != nil {
		return err
	}
	say("holding pages for a minute each on " + l.Addr().String())
	go func() {
		<-ctx.Done()
		l.Close()
	}()
	for {
		conn, err := l.Accept()
		if err != nil {
			return nil
		}
		go func() {
			defer conn.Close()
			for in := bufio.NewScanner(conn); in.Scan(); {
				fmt.Fprintln(conn, in.Text())
			}
		}()
	}
}

var stock = []Tool{
	{Name: "hammer drill", Shelf: "A1", Borrower: "Ines Brandt", Mail: "ines@example.org", Due: time.Now().Add(-50 * time.Hour)},
	{Name: "extension ladder", Shelf: "B4"},
	{Name: "wallpaper steamer", Shelf: "A3", Borrower: "Tomas Okafor", Mail: "tomas@example.org", Due: time.Now().Add(72 * time.Hour)},
	{Name: "hedge trimmer", Shelf: "C2"},
	{Name: "tile cutter", Shelf: "A2", Borrower: "Marit Solheim", Mail: "marit@example.org", Due: time.Now().Add(-26 * time.Hour)},
	{Name: "spirit level", Shelf: "A1"},
}

// stocktake puts what there is where there is nothing yet.
func stocktake(ctx context.Context) error {
	for _, t := range stock {
		b, _ := json.Marshal(t)
		resp, err := http.Post(os.Getenv("LEDGER_URL")+"/tools", "application/json", strings.NewReader(string(b)))
		if err != nil {
			return err
		}
		resp.Body.Close()
		say("shelf " + t.Shelf + ": " + t.Name)
		warmUp(ctx, 60*time.Millisecond)
	}
	say(fmt.Sprintf("%d tools are in the ledger", len(stock)))
	if err := review(ctx, os.Getenv("REVIEWS_URL")); err != nil {
		return err
	}
	say(fmt.Sprintf("%d reviews are there", len(opinions)))
	return nil
}

func getTools(address string) ([]Tool, error) {
	resp, err := http.Get(address + "/tools")
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	var tools []Tool
	err = json.NewDecoder(resp.Body).Decode(&tools)
	return tools, err
}

func serveAPI(ctx context.Context) error {
	say("connecting", "ledger", os.Getenv("LEDGER_URL"))
	warmUp(ctx, 450*time.Millisecond)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /healthz", healthz)
	mux.HandleFunc("GET /tools", func(w http.ResponseWriter, _ *http.Request) {
		tools, err := getTools(os.Getenv("LEDGER_URL"))
		if err != nil {
			warn("the ledger does not answer", "error", err)
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		_ = json.NewEncoder(w).Encode(tools)
	})
	if os.Getenv("PAYMENTS_URL") != "" {
		reviews, err := openReviews(os.Getenv("REVIEWS_URL"))
		if err != nil {
			return err
		}
		mux.HandleFunc("POST /deposits", takeDeposit)
		mux.HandleFunc("POST /hooks/payments", paid(reviews.Database().Collection("deposits")))
	}
	return listenHTTP(ctx, os.Getenv("PORT"), mux)
}

// photoFile is the name of the photo of a tool.
func photoFile(tool string) string { return strings.ReplaceAll(tool, " ", "-") + ".png" }

var page = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Toolshed</title>
<style>body{margin:0;background:#f6f1e7;color:#2b2a26;font:16px/1.5 Georgia,serif}main{max-width:1000px;margin:0 auto;padding:24px}ul{list-style:none;padding:0;display:grid;grid-template-columns:repeat(auto-fill,minmax(260px,1fr));gap:20px}
li{background:#fffdf8;border:1px solid #d8cfbd;border-radius:8px;overflow:hidden}img{display:block;width:100%;height:auto}div{padding:10px 14px 14px}h1{margin:0 0 16px}nav{float:right}a{color:inherit}h2{font-size:18px;margin:0}p{margin:6px 0 0}small{color:#6a6355}</style>
<main><nav>{{if .Member}}{{.Member}} · <a href="/sign-out">sign out</a>{{else if .Door}}<a href="/sign-in">sign in</a>{{end}}</nav><h1>Toolshed</h1><ul>{{range .Tools}}<li>{{with .Photo}}<img src="{{.}}" width="480" height="320" alt="">{{end}}<div><h2>{{.Name}}</h2><small>shelf {{.Shelf}}{{with .Borrower}}, lent to {{.}}{{end}}</small>{{range .Reviews}}<p>{{.Mark}} {{.Text}} <small>{{.By}}</small></p>{{end}}</div></li>{{end}}</ul></main>
`))
})

// web is the page that neighbours see.
func web(ctx context.Context) error {
	warmUp(ctx, 280*time.Millisecond)
	var reviews *mongo.Collection
	if address := os.Getenv("REVIEWS_URL"); address != "" {
		var err error
		if reviews, err = openReviews(address); err != nil {
			return err
		}
	}
	door := newDoor(os.Getenv("ISSUER_URL"), os.Getenv("CLIENT_ID"))
	mux := http.NewServeMux()
	mux.HandleFunc("GET /", func(w http.ResponseWriter, r *http.Request) {
		tools, err := getTools(os.Getenv("API_URL"))
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		said := map[string][]Review{}
		if reviews != nil {
			if said, err = allReviews(r.Context(), reviews); err != nil {
				warn("the reviews can't be read", "error", err)
				http.Error(w, err.Error(), http.StatusBadGateway)
				return
			}
		}
		type item struct {
			Tool
			Photo   string
			Reviews []Review
		}
		var items []item
		for _, t := range tools {
			i := item{Tool: t, Reviews: said[t.Name]}
			if photos := os.Getenv("PHOTOS_URL"); photos != "" {
				i.Photo = photos + "/" + photoFile(t.Name)
			}
			items = append(items, i)
		}
		_ = page().Execute(w, map[string]any{"Tools": items, "Member": door.member(r), "Door": door != nil})
	})
	if door != nil {
		mux.HandleFunc("GET /sign-in", door.signIn)
		mux.HandleFunc("GET /back", door.back)
		mux.HandleFunc("GET /sign-out", door.signOut)
	}
	return listenHTTP(ctx, os.Getenv("PORT"), mux)
}

// reminders writes to a borrower who is late, one after the other.
func reminders(ctx context.Context) error {
	warmUp(ctx, 150*time.Millisecond)
	say("watching for overdue loans")
	u, err := url.Parse(os.Getenv("SMTP_URL"))
	if err != nil {
		return err
	}
	for n := 0; ; n++ {
		warmUp(ctx, 3*time.Second)
		if ctx.Err() != nil {
			return nil
		}
		tools, err := getTools(os.Getenv("API_URL"))
		if err != nil {
			warn("the api does not answer", "error", err)
			continue
		}
		late := slices.DeleteFunc(tools, func(t Tool) bool { return t.Due.IsZero() || t.Due.After(time.Now()) })
		if len(late) > 0 {
			warn("loans are overdue", "count", len(late))
		}
		if len(late) > 0 && n%6 == 1 { // who keeps it leaves a deposit
			t := late[n/6%len(late)]
			var taken struct{ Amount int }
			if err := post(ctx, os.Getenv("API_URL")+"/deposits", fmt.Sprintf("deposit-%d", time.Now().Unix()), Deposit{Tool: t.Name, Borrower: t.Borrower, Mail: t.Mail}, &taken); err != nil {
				warn("no deposit is taken", "error", err)
			} else {
				say("a deposit is asked of "+t.Borrower, "amount", taken.Amount)
			}
		}
		if len(late) == 0 || n%4 != 0 {
			continue
		}
		t := late[n/4%len(late)]
		sender := os.Getenv("SENDER")
		if err := smtp.SendMail(u.Host, nil, sender, []string{t.Mail}, []byte(letter(t))); err != nil {
			warn("the mail is not sent", "to", t.Mail, "error", err)
			continue
		}
		say("reminded "+t.Borrower, "tool", t.Name)
	}
}

// letter is a reminder, as text and as HTML.
func letter(t Tool) string {
	due := t.Due.Format("2 January")
	head := fmt.Sprintf("From: Toolshed <%s>\r\nTo: %s <%s>\r\nSubject: Please bring back the %s\r\nDate: %s\r\nMIME-Version: 1.0\r\nContent-Type: multipart/alternative; boundary=\"shed\"\r\n\r\n",
		os.Getenv("SENDER"), t.Borrower, t.Mail, t.Name, time.Now().Format(time.RFC1123Z))
	plain := fmt.Sprintf("--shed\r\nContent-Type: text/plain; charset=utf-8\r\n\r\nDear %s,\r\n\r\nthe %s was due on %s. Somebody is waiting for it.\r\n\r\nThe shed is open from 9 to 12 and from 16 to 19.\r\n", t.Borrower, t.Name, due)
	page := "--shed\r\nContent-Type: text/html; charset=utf-8\r\n\r\n" + strings.ReplaceAll(fmt.Sprintf(`<!doctype html>
<body style="margin:0;background:#f6f1e7;color:#2b2a26;font:16px/1.55 Georgia,serif">
<div style="max-width:520px;margin:0 auto;padding:28px 22px">
<h1 style="font-size:24px;margin:0 0 14px">Please bring back the %s</h1>
<p>Dear %s,</p>
<p>it was due on <b>%s</b>, and somebody is waiting for it.</p>
<table style="width:100%%;border-collapse:collapse;margin:16px 0">
<tr><td style="padding:7px 0;border-bottom:1px solid #d8cfbd">Tool</td><td style="text-align:right;border-bottom:1px solid #d8cfbd">%s</td></tr>
<tr><td style="padding:7px 0">The shed is open</td><td style="text-align:right">9–12 and 16–19</td></tr>
</table>
<p><a href="%s/tools" style="display:inline-block;background:#a8500a;color:#fff;text-decoration:none;padding:10px 18px;border-radius:7px">Keep it three more days</a></p>
</div></body>
`, t.Name, t.Borrower, due, t.Name, os.Getenv("API_URL")), "\n", "\r\n")
	return head + plain + page + "--shed--\r\n"
}

func sorter(ctx context.Context) error {
	say("sorting screws by length")
	warmUp(ctx, 1500*time.Millisecond)
	if ctx.Err() != nil {
		return nil
	}
	fmt.Println("Error: drawer 7: expected a screw, found a rubber duck\n    at sortDrawer (sorter.js:41:9)\n    at sortAll (sorter.js:12:5)")
	return errors.New("out of drawers")
}

// scales answers a few times and then no more.
func scales(ctx context.Context) error {
	var mu sync.Mutex
	asked := 0
	mux := http.NewServeMux()
	mux.HandleFunc("GET /weigh", func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked++
		stuck := asked > 4
		mu.Unlock()
		if stuck {
			say("waiting for the needle to settle")
			select {
			case <-r.Context().Done():
			case <-ctx.Done():
			}
			return
		}
		fmt.Fprintln(w, "12 kg")
	})
	return listenHTTP(ctx, os.Getenv("PORT"), mux)
}

// nobody is the user id that owns nothing.
const nobody = 65534

func camera(ctx context.Context) error {
	if os.Getuid() == 0 { // root may write anywhere
		if err := syscall.Setuid(nobody); err != nil {
			return err
		}
	}
	warmUp(ctx, 100*time.Millisecond)
	dir, _ := os.Getwd()
	if err := os.WriteFile("hammer-drill.jpg", nil, 0o600); err != nil {
		return fmt.Errorf("the folder for photos, %s, can't be written by user %d: %w", dir, os.Getuid(), err)
	}
	say("ready for photos")
	<-ctx.Done()
	return nil
}

// stranger holds the port that another program wants, as long as the demo's
// keeper is there.
func stranger(ctx context.Context) error {
	held, err := HeldPort(Dir(true))
	if err != nil {
		return err
	}
	// The stranger of an earlier demo may have it, and be about to end.
	var l net.Listener
	for range 1000 {
		if l, err = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", held)); err == nil || ctx.Err() != nil {
			break
		}
		warmUp(ctx, 20*time.Millisecond)
	}
	if err != nil {
		return err
	}
	defer l.Close()
	socket := project.At(Dir(true)).Socket()
	for missing := 0; missing < 10; {
		warmUp(ctx, 500*time.Millisecond)
		if ctx.Err() != nil {
			return nil
		}
		conn, err := net.Dial("unix", socket)
		if err != nil {
			missing++
			continue
		}
		conn.Close()
		missing = 0
	}
	return nil
}

package verbs

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime/multipart"
	"net"
	"net/http"
	"net/textproto"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/content"
	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/scene"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

var postVerb = verb(rule.Verb{Name: "post", Options: []string{"success_codes", "save", "from"}, Files: rule.SuitsFiles},
	func() work.Act { return &post{} })

type post struct {
	Address    rule.Text            `key:"post" pattern:"^(https?://|\\{)" doc:"the address to which the file is sent over HTTP"`
	Method     rule.Text            `key:"method" default:"POST" doc:"the HTTP method; POST if left out"`
	Headers    map[string]rule.Text `key:"headers" doc:"HTTP headers; placeholders are filled"`
	HeadersEnv map[string]string    `key:"headers_env" doc:"HTTP headers whose value is in an environment variable, for secrets"`
	Field      rule.Text            `key:"field" doc:"the file is sent as this field of a form (multipart/form-data)"`

	Body rule.Text `key:"body" doc:"a text that is sent instead of the file; placeholders are filled, |json makes one fit for a JSON text"`

	url    *fill.Template
	header map[string]*fill.Template
	text   *fill.Template // of body
}

// Check is part of rule.Act.
func (p *post) Check(c *notation.Checker) {
	p.url = c.Fill(p.Address, c.Each)
	at := c.Constant(p.Address)
	if p.url != nil && !strings.HasPrefix(at, "http://") && !strings.HasPrefix(at, "https://") {
		c.Error(p.Address.Pos, "address", fmt.Sprintf("%q is not a web address", p.Address.S),
			"begin it with http:// or https://")
	}
	if p.Body.Set() {
		p.text = c.Fill(p.Body, c.Each)
		if len(c.Step.From) > 0 || p.Field.Set() {
			c.Error(p.Body.Pos, "option", "body is sent instead of a file, so from and field do not go with it",
				"keep one of them")
		}
	}
	p.header = map[string]*fill.Template{}
	for name, t := range p.Headers {
		p.header[name] = c.Fill(t, c.Each)
	}
	for _, r := range c.Step.SuccessCodes {
		if r.Low < 100 || r.Top > 599 {
			c.ErrorAt("success_codes", "range", fmt.Sprintf("%s is not an HTTP status", r),
				"they go from 100 to 599")
		}
	}
}

// Secrets lists the environment variables in which the step has secrets.
func (p *post) Secrets() []string { return slices.Collect(maps.Values(p.HeadersEnv)) }

// Says is part of plan.Act.
func (p *post) Says(j *plan.Job, s *rule.Step, _ string) (string, error) {
	address, err := p.address(j)
	shown := plan.ShownAddress(address)
	switch {
	case err != nil:
		return "", err
	case p.text != nil:
		return "send a text to " + shown, nil
	case len(s.From) > 0:
		from, err := j.Sources(s)
		return fmt.Sprintf("send %s to %s", plan.Display(strings.Join(from, ", ")), shown), err
	}
	return "send to " + shown, nil
}

// address fills the address. What is filled in is escaped, so that it stays one part of a
// path or query.
func (p *post) address(j *plan.Job) (string, error) {
	return p.url.Fill(func(word string) (fill.Value, error) {
		v, err := j.Lookup(word)
		v.Text = url.QueryEscape(v.Text)
		v.Text = strings.ReplaceAll(v.Text, "+", "%20")
		return v, err
	})
}

// success reports whether an HTTP status means success.
func (p *post) success(s *rule.Step, status int) bool {
	return s.SuccessCodes.Has(status) || len(s.SuccessCodes) == 0 && 200 <= status && status < 300
}

// Do is part of work.Act.
func (p *post) Do(ctx context.Context, w *work.Work, s *rule.Step) error {
	if len(s.From) > 0 {
		return w.Others(s, func(path string, facts file.Facts) error {
			return postOne(ctx, w, p, s, &w.Job, &parcel{path: path, facts: facts})
		})
	}
	return w.Each(s, func(u *job.Unit, j plan.Job) error {
		what := &parcel{watch: w.Job.Watch, path: u.At, facts: u.Facts}
		if p.text != nil {
			text, err := p.text.Fill(j.Lookup)
			if err != nil {
				return err
			}
			what = &parcel{text: &text}
		}
		return postOne(ctx, w, p, s, &j, what)
	})
}

// Foretell is part of work.Act.
func (p *post) Foretell(w *work.Foretelling, s *rule.Step) {
	if len(s.From) > 0 {
		w.Others(s, func(string, scene.Thing) {}, func(string) {})
	}
}

// parcel is what is sent: a file, or a text.
type parcel struct {
	watch string // the folder below which links are not followed, "" for none
	path  string
	facts file.Facts
	text  *string
}

// open opens what is sent.
func (p *parcel) open() (io.ReadCloser, error) {
	if p.text != nil {
		return io.NopCloser(strings.NewReader(*p.text)), nil
	}
	if p.watch == "" {
		return os.Open(p.path)
	}
	return watchfs.OpenKnown(p.watch, p.path, p.facts)
}

// size is its length in bytes.
func (p *parcel) size() int64 {
	if p.text != nil {
		return int64(len(*p.text))
	}
	return p.facts.Size
}

// kind is its media type.
func (p *parcel) kind() string {
	switch {
	case p.text == nil:
		return content.MediaType(p.path)
	case json.Valid([]byte(*p.text)):
		return "application/json"
	}
	return "text/plain; charset=utf-8"
}

// postTimeout bounds a post step that has no timeout of its own.
const postTimeout = 5 * time.Minute

// maxAnswer is how much of an answer is read, in bytes.
const maxAnswer = maxSaved

// postOne sends something over HTTP. A redirect is not followed: it goes to the
// address that the rule names, or nowhere.
func postOne(ctx context.Context, w *work.Work, p *post, s *rule.Step, j *plan.Job, what *parcel) error {
	address, err := p.address(j)
	if err != nil {
		return err
	}
	shown := plan.ShownAddress(address)
	if w.Trying() {
		if what.text != nil {
			w.Tell("would send this to %s:\n%s", shown, *what.text)
		} else {
			w.Tell("would send %s to %s", what.path, shown)
		}
		pretend(w, s, "(the answer)")
		return nil
	}
	if s.Timeout.Duration == 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, postTimeout)
		defer cancel()
	}
	content, err := what.open()
	if err != nil {
		return err
	}
	defer content.Close()
	body, kind, size, err := p.body(content, what)
	if err != nil {
		return err
	}
	req, err := p.request(ctx, *j, address, body, kind, size)
	if err != nil {
		return err
	}
	answer, err := exchange(w, req, p, s, shown)
	if err == nil && s.Save.Set() {
		err = saveText(w, s, answer)
	}
	return err
}

// exchange sends a request and returns what was answered, if that means success.
func exchange(w *work.Work, req *http.Request, p *post, s *rule.Step, shown string) ([]byte, error) {
	client := http.Client{CheckRedirect: notFollowed}
	res, err := client.Do(req)
	if err != nil {
		return nil, fmt.Errorf("%s could not be reached: %w", shown, innermost(err))
	}
	defer res.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer+1))
	if err != nil {
		return nil, fmt.Errorf("the response from %s ended early: %w", shown, innermost(err))
	}
	if err := printText(w, fmt.Sprintf("%s %s\n%s\n", req.Method, shown, res.Status), answer); err != nil {
		return nil, err
	}
	if !p.success(s, res.StatusCode) {
		return nil, refused(w, res, shown, answer)
	}
	return answer, nil
}

func notFollowed(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

// refused says that a status means no success.
func refused(w *work.Work, res *http.Response, shown string, answer []byte) error {
	first, _ := bufio.NewReader(strings.NewReader(string(answer))).ReadString('\n')
	why := fmt.Sprintf("%s answered %s", shown, res.Status)
	if first = shorten(first); first != "" {
		why += ": " + first
	}
	if slices.Contains(w.Job.Rule.Retry.NeverHTTP, res.StatusCode) {
		return work.Hopeless{Text: why}
	}
	return errors.New(why)
}

// innermost takes the method and address from an error of the client, which
// messages name themselves.
func innermost(err error) error {
	var ue *url.Error
	if errors.As(err, &ue) {
		if ue.Timeout() {
			return errors.New("it did not answer in time")
		}
		err = ue.Err
	}
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Err
	}
	return err
}

// body is what is sent itself, or a form with it as a field.
func (p *post) body(f io.Reader, what *parcel) (body io.Reader, kind string, size int64, err error) {
	kind = what.kind()
	if !p.Field.Set() {
		return f, kind, what.size(), nil
	}
	var head, tail strings.Builder
	form := multipart.NewWriter(&head)
	header := textproto.MIMEHeader{}
	quote := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\r", "_", "\n", "_")
	header.Set("Content-Disposition", fmt.Sprintf(`form-data; name="%s"; filename="%s"`, quote.Replace(p.Field.S),
		quote.Replace(filepath.Base(what.path))))
	header.Set("Content-Type", kind)
	if _, err := form.CreatePart(header); err != nil {
		return nil, "", 0, err
	}
	tail.WriteString("\r\n--" + form.Boundary() + "--\r\n")
	size = int64(head.Len()+tail.Len()) + what.size()
	return io.MultiReader(strings.NewReader(head.String()), f, strings.NewReader(tail.String())),
		form.FormDataContentType(), size, nil
}

func (p *post) request(ctx context.Context, j plan.Job, address string, body io.Reader, kind string,
	size int64) (*http.Request, error) {
	method := http.MethodPost
	if p.Method.Set() {
		method = strings.ToUpper(p.Method.S)
	}
	req, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return nil, fmt.Errorf("post: %w", err)
	}
	req.ContentLength = size
	if size == 0 {
		req.Body = http.NoBody
	}
	req.Header.Set("Content-Type", kind)
	for name, t := range p.header {
		value, err := t.Fill(j.Lookup)
		if err != nil {
			return nil, err
		}
		req.Header.Set(name, strings.NewReplacer("\r", " ", "\n", " ").Replace(value))
	}
	for name, variable := range p.HeadersEnv {
		value, ok := os.LookupEnv(variable)
		if !ok {
			return nil, fmt.Errorf("the environment variable %s, which the header %s needs, is not set", variable,
				name)
		}
		req.Header.Set(name, value)
	}
	return req, nil
}

// printText adds to what the job's commands printed.
func printText(w *work.Work, head string, text []byte) error {
	f, err := os.OpenFile(w.Output, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("the output file cannot be made: %w", err)
	}
	n, err := f.WriteString(head + string(text))
	w.Printed += int64(n)
	return errors.Join(err, f.Close())
}

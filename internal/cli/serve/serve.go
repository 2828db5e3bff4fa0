// Package serve has the commands that serve an estate over HTTP, and invite people to its desk.
package serve

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/spf13/cobra"

	"ironseal/internal/app/ops/service"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/httpd"
	"ironseal/internal/keystore"
	"ironseal/internal/term"
)

const about = `Serve the estate over HTTP, until it is stopped.

The public address hands out revocation lists, the certificates of authorities, OCSP answers, and
the roots with their kits. At the desk, colleagues hand in requests and fetch what was signed. The
health address tells operators how the server is. The settings are in [serve] of ironseal.toml.

Signing requests stays with you, at the command line. The server opens no authority's key, unless
you say so: with --publish it signs lists when they are due, and renews its own certificate; with
--answer it makes keys that sign OCSP answers on demand; with --sign it signs what machines ask
for and a template lets be signed without a person. Then it asks for passphrases at the start.`

// flags are the options of serve.
type flags struct {
	check                bool
	public, desk, health string
	machines             string
	publish, answer      []string
	sign                 []string
	logs, level          string
}

// Command is ironseal serve.
func Command(s *session.Session) *cobra.Command {
	var f flags
	c := &cobra.Command{
		Use:   "serve",
		Short: "Serve lists, OCSP, roots and a desk for requests over HTTP",
		Long:  about,
		Example: "  ironseal serve --check\n  ironseal serve --publish --answer\n" +
			"  ironseal serve --publish=services --public 127.0.0.1:8086",
		Args: session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return run(cmd.Context(), s, cmd, f)
		},
	}
	fl := c.Flags()
	fl.BoolVar(&f.check, "check", false, "check the settings, and say what would be served where")
	fl.StringVar(&f.public, "public", "", "the public `ADDRESS`, in place of the settings")
	fl.StringVar(&f.desk, "desk", "", "the `ADDRESS` of the desk, in place of the settings")
	fl.StringVar(&f.health, "health", "", "the `ADDRESS` of state and metrics, in place of the settings")
	fl.StringVar(&f.machines, "machines", "", "the `ADDRESS` where machines enrol, in place of the settings")
	fl.StringSliceVar(&f.publish, "publish", nil, "sign lists of this authority, the `HANDLE`, when they are due; "+
		"of all without one; may be repeated")
	fl.StringSliceVar(&f.answer, "answer", nil, "sign OCSP answers about certificates of this authority, the "+
		"`HANDLE`; of all without one; may be repeated")
	fl.StringSliceVar(&f.sign, "sign", nil, "sign with the key of this authority, the `HANDLE`, what a template lets "+
		"be signed without a person; with those of all without one; may be repeated")
	for _, name := range []string{"publish", "answer", "sign"} {
		fl.Lookup(name).NoOptDefVal = "all"
	}
	fl.StringVar(&f.logs, "logs", "text", "the `FORM` of the log: text or json")
	fl.StringVar(&f.level, "log-level", "info", "the least `LEVEL` that is logged: debug, info, warn or error")
	session.CompleteWords(c, "logs", "text", "json")
	session.CompleteWords(c, "log-level", "debug", "info", "warn", "error")
	s.CompleteHandles(c, "publish")
	s.CompleteHandles(c, "answer")
	s.CompleteHandles(c, "sign")
	return c
}

// change puts what the command line and the environment say in the place of the settings.
func (f flags) change(env func(string) string, cmd *cobra.Command) func(*estate.Serve) {
	return func(to *estate.Serve) {
		for _, x := range []struct {
			flag, variable, value string
			to                    *string
		}{{"public", "IRONSEAL_SERVE_PUBLIC", f.public, &to.Public}, {"desk", "IRONSEAL_SERVE_DESK", f.desk, &to.Desk},
			{"health", "IRONSEAL_SERVE_HEALTH", f.health, &to.Health},
			{"machines", "IRONSEAL_SERVE_MACHINES", f.machines, &to.Machines}} {
			if v := env(x.variable); v != "" {
				*x.to = v
			}
			if cmd.Flags().Changed(x.flag) {
				*x.to = x.value
			}
		}
		if cmd.Flags().Changed("publish") {
			to.Publish = f.publish
		}
		if cmd.Flags().Changed("answer") {
			to.Answer = f.answer
		}
		if cmd.Flags().Changed("sign") {
			to.Sign = f.sign
		}
	}
}

// logger writes to standard error.
func (f flags) logger(s *session.Session) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(f.level)); err != nil {
		return nil, session.Misused("--log-level %q: use debug, info, warn or error", f.level)
	}
	o := &slog.HandlerOptions{Level: level}
	switch f.logs {
	case "json":
		return slog.New(slog.NewJSONHandler(s.Stderr, o)), nil
	case "text":
		return slog.New(slog.NewTextHandler(s.Stderr, o)), nil
	}
	return nil, session.Misused("--logs %q: use text or json", f.logs)
}

func run(ctx context.Context, s *session.Session, cmd *cobra.Command, f flags) error {
	log, err := f.logger(s)
	if err != nil {
		return err
	}
	e, err := s.Estate(ctx)
	if err != nil {
		return err
	}
	set := e.Settings.Serve
	f.change(s.Env, cmd)(&set)
	if err := set.Check(); err != nil {
		return err
	}
	if f.check {
		return check(s, e, set)
	}
	env := s.EstateEnv()
	pass := &keystore.Remembering{Pass: env.Pass}
	defer pass.Forget()
	env.Pass = pass
	svc, err := service.Open(ctx, service.Options{Dir: e.Dir, Env: env, Change: f.change(s.Env, cmd), Log: log})
	if err != nil {
		return err
	}
	defer func() { _ = svc.Close() }()
	if err := svc.Begin(ctx); err != nil {
		return err
	}
	h, err := httpd.New(svc, log)
	if err != nil {
		return err
	}
	on, err := httpd.Listen(svc.Settings())
	if err != nil {
		return err
	}
	tell(s, svc, on)
	return serve(ctx, svc, h, on, log)
}

// serve serves until a signal stops the program. A hangup lets it read its settings again.
func serve(ctx context.Context, svc *service.Service, h *httpd.Server, on []httpd.Listening, log *slog.Logger) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	again := make(chan os.Signal, 1)
	signal.Notify(again, syscall.SIGHUP)
	defer signal.Stop(again)
	done := make(chan struct{})
	running, cancel := context.WithCancel(context.WithoutCancel(ctx))
	go func() {
		svc.Run(running)
		close(done)
	}()
	go func() {
		for {
			select {
			case <-running.Done():
				return
			case <-again:
				if err := svc.Reload(running); err != nil {
					log.Error("the settings cannot be read again; the earlier ones stay", "error", err)
					continue
				}
				log.Info("the settings were read again")
			}
		}
	}()
	go supervised(running, svc, log)
	err := h.Serve(ctx, on)
	notify(log, daemon.SdNotifyStopping)
	cancel()
	<-done
	return err
}

// supervised tells systemd, where it started the program, that it is ready, and then that it is alive.
func supervised(ctx context.Context, svc *service.Service, log *slog.Logger) {
	notify(log, daemon.SdNotifyReady)
	each, err := daemon.SdWatchdogEnabled(false)
	if err != nil || each == 0 {
		return
	}
	t := time.NewTicker(each / 3)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			if svc.Alive(each) {
				notify(log, daemon.SdNotifyWatchdog)
			}
		}
	}
}

func notify(log *slog.Logger, state string) {
	if _, err := daemon.SdNotify(false, state); err != nil {
		log.Warn("systemd cannot be notified", "state", state, "error", err)
	}
}

// check says what would be served where.
func check(s *session.Session, e *estate.Estate, set estate.Serve) error {
	places := httpd.Places(set)
	if s.JSON {
		return s.PrintJSON(places)
	}
	if len(places) == 0 {
		return errors.New("there is nothing to serve: every address in [serve] is empty")
	}
	s.Out.Say("%s The settings of the server of %s are in order.", s.Out.Paint(term.Good, "✓"),
		term.Safe(e.Settings.Organisation.Name))
	var rows [][]term.Cell
	for _, p := range places {
		rows = append(rows, []term.Cell{{Text: p.Name, Tone: term.Strong}, {Text: p.Address}, {Text: p.What}})
	}
	s.Out.Table([]string{"", "address", "what"}, rows)
	for _, line := range duties(set) {
		s.Out.Item("·", line)
	}
	if e.Settings.Publication.Address == "" {
		s.Out.Item(s.Out.Paint(term.Careful, "!"), "Certificates name no address of lists: publication.address in "+
			estate.SettingsFile+" is empty.")
	}
	return nil
}

// duties say what a server does on its own.
func duties(set estate.Serve) (out []string) {
	of := func(names []string) string {
		if slices.Contains(names, "all") {
			return "every authority"
		}
		return term.Safe(strings.Join(names, ", "))
	}
	if len(set.Publish) > 0 {
		out = append(out, "It signs lists of "+of(set.Publish)+" when they are due.")
	}
	if len(set.Answer) > 0 {
		out = append(out, "It signs OCSP answers about certificates of "+of(set.Answer)+".")
	}
	if set.Machines != "" && len(set.Sign) > 0 {
		out = append(out, "It signs with the key of "+of(set.Sign)+" what a template lets be signed without a person.")
	}
	if set.Answers != "" {
		out = append(out, "It hands out the OCSP answers in "+term.Safe(set.Answers)+".")
	}
	if set.Desk != "" {
		out = append(out, map[string]string{estate.DeskToAll: "Everybody may hand in requests at the desk.",
			estate.DeskToInvited: "Those who have an invitation may hand in requests at the desk.",
			estate.DeskToNobody:  "The desk takes no requests; it shows earlier ones."}[set.Open])
	}
	if len(out) == 0 {
		out = append(out, "It signs nothing.")
	}
	return out
}

// tell prints the addresses once they are open.
func tell(s *session.Session, svc *service.Service, on []httpd.Listening) {
	if s.JSON {
		return
	}
	for _, l := range on {
		at := l.Listener.Addr().String()
		switch l.Name {
		case httpd.NameMachines:
			if l.Listener.Addr().Network() == "tcp" {
				at = "https://" + at
			}
		case httpd.NameDesk:
			if l.Listener.Addr().Network() == "tcp" {
				at = svc.Settings().Where()
			}
		default:
			if l.Listener.Addr().Network() == "tcp" {
				at = "http://" + at
			}
		}
		s.Out.Say("%s %s  %s", s.Out.Paint(term.Good, "✓ serving"), fmt.Sprintf("%-8s", l.Name), term.Safe(at))
	}
	for _, line := range duties(svc.Settings()) {
		s.Out.Say("  %s", s.Out.Paint(term.Quiet, line))
	}
	if i := svc.Identity(); i != nil && i.Temporary {
		s.Out.Say("  %s", s.Out.Paint(term.Careful, "The desk's certificate is temporary: browsers warn of it."))
		s.Next(session.Hint{Why: "give it one", Command: fmt.Sprintf("ironseal sign %s --template %s", i.Request,
			svc.Settings().Template)})
	}
	s.Out.Say("%s", s.Out.Paint(term.Quiet, "  Stop it with Ctrl-C."))
}

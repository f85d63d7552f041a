package foresee

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/notice"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/notify"
)

func (a *app) tellCommand() *cobra.Command {
	return &cobra.Command{
		Use: "tell CHANNEL [TEXT]", Short: "Try a channel: send one notice now, and say what became of it",
		Long: `Sends one notice on a channel of the rules file, at once and without gathering, so that you
see whether it arrives. The exit status is 1 if it could not be delivered.`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.tell(args[0], strings.Join(args[1:], ""))
		},
	}
}

func (a *app) tell(name, text string) error {
	f, err := a.LoadRules()
	if err != nil {
		return err
	}
	if text == "" {
		text = "If you read this, the channel " + name + " works."
	}
	m := notify.One(name, notice.Event{Kind: notice.Trial, At: time.Now(), Text: text})
	c, ok := f.Channels[name]
	switch {
	case name == rule.LogChannel:
		a.Note("notice: %s", ink.Clean(m.Text))
		return nil
	case !ok:
		names := append(slices.Sorted(maps.Keys(f.Channels)), rule.LogChannel)
		hint := console.DidYouMean(name, names)
		if hint == "" {
			hint = "; the channels are " + strings.Join(names, ", ")
		}
		return console.Usage("there is no channel named %s in %s%s", name, a.Shown(f.Path), hint)
	}
	o := notify.Options{State: f.StateFolder(), Rules: f.Path}
	if err := notify.Try(context.Background(), o, name, c, m); err != nil {
		return &console.ExitError{Status: console.ExitFound, Text: fmt.Sprintf("the channel %s did not deliver: %v",
			name, err)}
	}
	fmt.Fprintf(a.Out, "Delivered on the channel %s.\n", name)
	return nil
}

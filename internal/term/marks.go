package term

import (
	"github.com/charmbracelet/lipgloss"

	"grayloft.example/grayloft/internal/core/decide"
)

// marks are the marks of outcomes.
var marks = map[decide.Outcome]string{
	decide.Current: "●", decide.Cached: "○", decide.Restored: "↥", decide.Fetched: "⤓", decide.Ran: "▶",
	decide.Failed: "✕", decide.Blocked: "‖", decide.Stopped: "‖", decide.NotStarted: "‖",
}

// tints are the colours of outcomes.
var tints = map[decide.Outcome]lipgloss.AdaptiveColor{
	decide.Current: {Light: "#6d7a82", Dark: "#8b979f"}, decide.Cached: {Light: "#5f7480", Dark: "#93a6b1"},
	decide.Restored: {Light: "#3f7489", Dark: "#6fa6bd"}, decide.Fetched: {Light: "#2f6f8f", Dark: "#8cc4de"},
	decide.Ran: {Light: "#8f5f1f", Dark: "#dda75c"}, decide.Failed: {Light: "#b3363b", Dark: "#e9777b"},
	decide.Blocked: {Light: "#8f5a58", Dark: "#c79a98"}, decide.Stopped: {Light: "#8f5a58", Dark: "#c79a98"},
	decide.NotStarted: {Light: "#8f5a58", Dark: "#c79a98"},
}

// Outcome formats an outcome with its mark and its colour.
func (sc *Screen) Outcome(o decide.Outcome) string {
	return sc.Style.NewStyle().Foreground(tints[o]).Render(marks[o] + " " + Pad(string(o), 9))
}

// Tint colours a text like an outcome.
func (sc *Screen) Tint(o decide.Outcome, s string) string {
	c, ok := tints[o]
	if !ok {
		c = tints[decide.Ran]
	}
	return sc.Style.NewStyle().Foreground(c).Render(s)
}

// softColour is the colour of secondary text.
var softColour = lipgloss.AdaptiveColor{Light: "#55626b", Dark: "#a3b0b8"}

// Soft formats secondary text.
func (sc *Screen) Soft(s string) string { return sc.Style.NewStyle().Foreground(softColour).Render(s) }

// Bold formats emphasised text.
func (sc *Screen) Bold(s string) string { return sc.Style.NewStyle().Bold(true).Render(s) }

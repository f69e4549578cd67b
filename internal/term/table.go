package term

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/lipgloss/table"
)

// Table prints rows in columns below a header. On a narrow terminal the widest
// columns are clipped.
func (sc *Screen) Table(head []string, rows [][]string) {
	sc.printTable(table.New().Headers(head...).BorderHeader(false).Rows(rows...), func(row, _ int) lipgloss.Style {
		style := sc.Style.NewStyle().PaddingRight(2)
		if row == table.HeaderRow {
			style = style.Foreground(softColour)
		}
		return style
	})
}

// Grid prints rows in columns without a header, indented. Cells may contain
// colours; the last column is aligned right.
func (sc *Screen) Grid(rows [][]string) {
	last := len(rows[0]) - 1
	// The library draws no header border without a header, but counts it in the height.
	sc.printTable(table.New().BorderHeader(true).Rows(rows...), func(_, column int) lipgloss.Style {
		style := sc.Style.NewStyle().PaddingLeft(2)
		if column == last {
			style = style.AlignHorizontal(lipgloss.Right)
		}
		return style
	})
}

func (sc *Screen) printTable(t *table.Table, style table.StyleFunc) {
	t = t.BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderColumn(false).Wrap(false).StyleFunc(style)
	if limit := sc.Width(); limit > 0 && lipgloss.Width(t.String()) > limit {
		t = t.Width(limit)
	}
	for line := range strings.Lines(t.String()) {
		fmt.Fprintln(sc.Out, strings.TrimRight(line, " \n"))
	}
}

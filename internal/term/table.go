package term

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/lipgloss/table"
)

// Table prints rows in columns below a header. On a narrow terminal the widest
// columns are clipped, but not the first, which says what a row is about.
func (sc *Screen) Table(head []string, rows [][]string) {
	sc.printTable(table.New().Headers(head...).BorderHeader(false).Rows(rows...), func(row, _ int) lipgloss.Style {
		style := sc.Style.NewStyle().PaddingRight(2)
		if row == table.HeaderRow {
			style = style.Foreground(softColour)
		}
		return style
	}, widestFirst(append([][]string{head}, rows...)))
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
	}, 0)
}

// widestFirst is the width of the first column if it is the widest, with the two cells beside it;
// otherwise 0.
func widestFirst(rows [][]string) (first int) {
	others := 0
	for _, row := range rows {
		for i, cell := range row {
			if i == 0 {
				first = max(first, lipgloss.Width(cell)+2)
			} else {
				others = max(others, lipgloss.Width(cell)+2)
			}
		}
	}
	if others > first {
		return 0
	}
	return first
}

// printTable prints a table. If it is too wide, the first column keeps its width, if one is given
// that leaves half of the room to the others.
func (sc *Screen) printTable(t *table.Table, style table.StyleFunc, first int) {
	t = t.BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderColumn(false).Wrap(false).StyleFunc(style)
	if limit := sc.Width(); limit > 0 && lipgloss.Width(t.String()) > limit {
		t = t.Width(limit)
		if first > 0 && first <= limit/2 {
			t = t.StyleFunc(func(row, column int) lipgloss.Style {
				if column == 0 {
					return style(row, column).Width(first)
				}
				return style(row, column)
			})
		}
	}
	for line := range strings.Lines(t.String()) {
		fmt.Fprintln(sc.Out, strings.TrimRight(line, " \n"))
	}
}

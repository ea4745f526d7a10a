package cli

// The options --report and --charts.

import (
	"github.com/spf13/pflag"

	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/report"
)

// reportFlags ask for a page and for charts beside the answer.
type reportFlags struct{ page, charts string }

func (f *reportFlags) add(flags *pflag.FlagSet) {
	flags.StringVar(&f.page, "report", "", "write a page to a file that reads in any browser, with charts and the reasons")
	flags.StringVar(&f.charts, "charts", "", "write the charts into a folder, as PNG and SVG")
}

// writeReport writes what is asked for, and says on the side what it wrote.
func (s *session) writeReport(f reportFlags, page func() *report.Page) error {
	if f.page == "" && f.charts == "" {
		return nil
	}
	p := page()
	if f.page != "" {
		if err := writePage(f.page, p); err != nil {
			return usage("--report: %w", err)
		}
		s.err.Printf("brisk: the page is in %s\n", f.page)
	}
	return s.writeCharts(f.charts, p.Charts())
}

func writePage(name string, p *report.Page) error {
	file, err := lines.Create(name)
	if err != nil {
		return err
	}
	defer file.Discard()
	if err := p.Write(file); err != nil {
		return err
	}
	return file.Finish()
}

func (s *session) writeCharts(dir string, charts []report.Chart) error {
	if dir == "" {
		return nil
	}
	n, err := report.Save(dir, charts)
	if err != nil {
		return usage("--charts: %w", err)
	}
	s.err.Printf("brisk: %s in %s, each as PNG and SVG\n", spell.Plural(n, "chart"), dir)
	return nil
}

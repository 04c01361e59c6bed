package register

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/xuri/excelize/v2"
)

// A small workbook can hold a very large one. What it unpacks to is bounded by part: sheets and the texts they share are read
// by way of a temporary file, all else would be held in memory.
const (
	maxWorkbook = 64 << 20  // bytes, as it comes
	maxUnpacked = 256 << 20 // bytes of all parts together
	maxStreamed = 16 << 20  // bytes of a part that is held in memory; larger ones go by way of a file
	maxPart     = 2 << 20   // bytes of a part that cannot go by way of a file
	maxParts    = 256
)

// sheet is the first sheet of a workbook.
type sheet struct {
	book *excelize.File
	rows *excelize.Rows
	line int
	want int // columns, as the headings have them
}

// checkParts looks through the directory of a workbook for parts that are too large to be opened.
func checkParts(file []byte) error {
	archive, err := zip.NewReader(bytes.NewReader(file), int64(len(file)))
	if err != nil {
		return err
	}
	if len(archive.File) > maxParts {
		return fmt.Errorf("it has %d parts, and at most %d are read", len(archive.File), maxParts)
	}
	total := uint64(0)
	for _, part := range archive.File {
		name := strings.ToLower(strings.ReplaceAll(part.Name, "\\", "/"))
		total += part.UncompressedSize64
		streamed := strings.HasPrefix(name, "xl/worksheets/sheet") || name == "xl/sharedstrings.xml"
		if total > maxUnpacked || !streamed && part.UncompressedSize64 > maxPart {
			return errors.New("it unpacks to more than is read")
		}
	}
	return nil
}

func openSheet(in io.Reader) (table, error) {
	file, err := io.ReadAll(io.LimitReader(in, maxWorkbook+1))
	if err != nil {
		return nil, err
	}
	if len(file) > maxWorkbook {
		return nil, fmt.Errorf("the workbook has more than %d MiB: part it, or save it as CSV", maxWorkbook>>20)
	}
	if err := checkParts(file); err != nil {
		return nil, fmt.Errorf("looks like a workbook and cannot be read as one (%w): save it as .xlsx, or as CSV", err)
	}
	book, err := excelize.OpenReader(bytes.NewReader(file), excelize.Options{UnzipSizeLimit: maxUnpacked, UnzipXMLSizeLimit: maxStreamed})
	if err != nil {
		return nil, fmt.Errorf("looks like a workbook and cannot be read as one (%w): save it as .xlsx, or as CSV", err)
	}
	names := book.GetSheetList()
	if len(names) == 0 {
		return nil, errors.Join(errors.New("the workbook has no sheet"), book.Close())
	}
	rows, err := book.Rows(names[0])
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the sheet %q cannot be read: %w", names[0], err), book.Close())
	}
	return &sheet{book: book, rows: rows}, nil
}

// next gives the next row that is not empty. A workbook leaves out empty cells at the end of a row.
func (s *sheet) next() (int, []string, error) {
	for s.rows.Next() {
		s.line++
		record, err := s.rows.Columns()
		if err != nil {
			return s.line, nil, err
		}
		if len(record) == 0 {
			continue
		}
		if len(record) > maxColumns {
			return s.line, nil, errColumns
		}
		if s.want == 0 {
			s.want = len(record)
		}
		for len(record) < s.want {
			record = append(record, "")
		}
		return s.line, record, nil
	}
	if err := s.rows.Error(); err != nil {
		return s.line, nil, err
	}
	return s.line, nil, io.EOF
}

// Close takes the temporary files away.
func (s *sheet) Close() error { return errors.Join(s.rows.Close(), s.book.Close()) }

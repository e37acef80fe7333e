package migrate

import "database/sql"

// ReadRows reads rows to their end, values as text and NULL as "".
func ReadRows(rows *sql.Rows) ([][]string, error) {
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	var out [][]string
	for rows.Next() {
		values, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		row := make([]string, len(columns))
		for i, v := range values {
			row[i] = v.String
		}
		out = append(out, row)
	}
	return out, rows.Err()
}

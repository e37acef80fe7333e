package mariadb

import "neighbour/internal/core/kind"

// Hints say how it is found in a project; MySQL itself is declared by its name.
func (k Kind) Hints() kind.Hints {
	if k.name != "mariadb" {
		return kind.Hints{Name: "database", Like: "mariadb", SQL: true}
	}
	return kind.Hints{
		Title: "MySQL and MariaDB", Name: "database",
		Libraries: []string{"mysql", "mysql2", "mariadb", "github.com/go-sql-driver/mysql", "mysqlclient", "pymysql", "aiomysql", "mysql-connector-python", "trilogy", "ext-mysqli", "ext-pdo_mysql"},
		Schemes:   []string{"mysql", "mysql2", "mariadb"},
		Ports:     []int{3306},
		Words:     []string{"MYSQL", "MARIADB"},
		Variable:  "DATABASE_URL", Address: "url",
		SQL:     true,
		Offered: true,
	}
}

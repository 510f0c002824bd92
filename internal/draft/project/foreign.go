package project

// Foreign is a program that is not the project's own, such as a database.
type Foreign struct {
	Port int // that it listens on by default
	// Uses are the environment variables that it reads: an edit of an env file that changes only others need not
	// restart it.
	Uses []string
}

// foreign are the common ones, by the names of their programs.
var foreign = map[string]Foreign{
	"postgres": {5432, []string{"PG*"}}, "mysqld": {3306, []string{"MYSQL_*"}},
	"mariadbd": {3306, []string{"MYSQL_*", "MARIADB_*"}}, "mongod": {27017, nil}, "redis-server": {6379, nil},
	"valkey-server": {6379, nil}, "memcached": {11211, nil}, "rabbitmq-server": {5672, []string{"RABBITMQ_*"}},
	"nats-server": {4222, nil}, "minio": {9000, []string{"MINIO_*"}}, "mosquitto": {1883, nil}, "nginx": {},
}

// ForeignOf returns the foreign program that a line of shell starts, if it starts only that.
func ForeignOf(line string) (Foreign, bool) {
	commands := CommandsOf(line)
	if len(commands) != 1 {
		return Foreign{}, false
	}
	f, is := foreign[commands[0].Program]
	if port := PortOf(line); is && port != 0 {
		f.Port = port
	}
	return f, is
}

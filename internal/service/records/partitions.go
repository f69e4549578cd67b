package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// partitioned are the tables that are partitioned by month.
var partitioned = []string{"run_tasks", "test_cases"}

// Partitions are made from the month before the current one to this many months
// after it.
const monthsAhead = 2

// EnsureMonths makes the partitions around a moment. Rows of these months that
// are in the default partition move.
func (db *DB) EnsureMonths(ctx context.Context, now time.Time) error {
	return db.EnsurePartitions(ctx, now.AddDate(0, -1, 0), now.AddDate(0, monthsAhead, 0))
}

// EnsurePartitions makes the partitions of all months between two moments.
func (db *DB) EnsurePartitions(ctx context.Context, from, to time.Time) error {
	from = from.UTC()
	for m := time.Date(from.Year(), from.Month(), 1, 0, 0, 0, 0, time.UTC); !m.After(to); m = m.AddDate(0, 1, 0) {
		for _, table := range partitioned {
			if err := db.ensurePartition(ctx, table, m); err != nil {
				return fmt.Errorf("making the partition of %s for %s: %w", table, m.Format("2006-01"), err)
			}
		}
	}
	return nil
}

// partitionLock is the advisory lock under which partitions are made.
const partitionLock = 0x10f7_0003

func (db *DB) ensurePartition(ctx context.Context, table string, month time.Time) error {
	name := table + month.Format("_2006_01")
	exists := func(q sqlx.QueryerContext) (found bool, err error) {
		return found, sqlx.GetContext(ctx, q, &found, `SELECT to_regclass($1) IS NOT NULL`, name)
	}
	if found, err := exists(db); err != nil || found {
		return err
	}
	begin, end := month.Format(time.DateOnly), month.AddDate(0, 1, 0).Format(time.DateOnly)
	return db.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock($1)`, partitionLock); err != nil {
			return err
		}
		if found, err := exists(tx); err != nil || found {
			return err
		}
		_, err := tx.ExecContext(ctx, fmt.Sprintf(`
			CREATE TABLE %[1]s (LIKE %[2]s INCLUDING DEFAULTS INCLUDING CONSTRAINTS INCLUDING INDEXES);
			LOCK TABLE %[2]s_other IN ACCESS EXCLUSIVE MODE;
			WITH moved AS (DELETE FROM %[2]s_other WHERE began >= '%[3]s+00' AND began < '%[4]s+00' RETURNING *)
				INSERT INTO %[1]s SELECT * FROM moved;
			ALTER TABLE %[2]s ATTACH PARTITION %[1]s FOR VALUES FROM ('%[3]s+00') TO ('%[4]s+00');`,
			name, table, begin, end))
		return err
	})
}

// dropEmptyMonths drops partitions of months that ended before a moment and have
// no rows.
func (db *DB) dropEmptyMonths(ctx context.Context, before time.Time) error {
	var names []string
	if err := db.SelectContext(ctx, &names, `
		SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_class p ON p.oid = i.inhparent
		WHERE p.relname = ANY($1) AND c.relname ~ '_\d{4}_\d{2}$'`, partitioned); err != nil {
		return err
	}
	for _, name := range names {
		month, err := time.Parse("2006_01", name[len(name)-len("2006_01"):])
		if err != nil || !month.AddDate(0, 1, 0).Before(before) {
			continue
		}
		err = db.inTx(ctx, func(tx *sqlx.Tx) error {
			var used bool
			if err := tx.GetContext(ctx, &used, `SELECT EXISTS (SELECT FROM `+name+`)`); err != nil || used {
				return err
			}
			_, err := tx.ExecContext(ctx, `DROP TABLE `+name)
			return err
		})
		if err != nil {
			return fmt.Errorf("dropping the partition %s: %w", name, err)
		}
	}
	return nil
}

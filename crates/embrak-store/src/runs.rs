//! The runs on record.

use crate::{Result, Store};
use embrak_tree::Digest;
use rusqlite::{OptionalExtension, TransactionBehavior, params};
use std::collections::BTreeSet;
use std::time::SystemTime;

/// One run as the index knows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunRow {
    /// Its number in this store, from 1.
    pub id: i64,
    /// The directory of the workspace it was started in.
    pub workspace: String,
    /// When it began, milliseconds since 1970-01-01 UTC.
    pub started: i64,
    /// When it ended; none while it goes on, or when it was killed.
    pub finished: Option<i64>,
    /// `running`, `done`, `failed` or `interrupted`.
    pub status: String,
    /// What the engine recorded, JSON.
    pub record: String,
}

fn row(row: &rusqlite::Row<'_>) -> rusqlite::Result<RunRow> {
    Ok(RunRow {
        id: row.get(0)?,
        workspace: row.get(1)?,
        started: row.get(2)?,
        finished: row.get(3)?,
        status: row.get(4)?,
        record: row.get(5)?,
    })
}

const COLUMNS: &str = "id, workspace, started, finished, status, record";

impl Store {
    /// Puts a new run on record; its number.
    ///
    /// # Errors
    /// The index cannot be written.
    pub fn start_run(&self, workspace: &str, record: &str) -> Result<i64> {
        self.index(|db| {
            db.execute(
                "INSERT INTO runs (workspace, started, status, record) VALUES (?1, ?2, 'running', ?3)",
                params![workspace, milliseconds_now(), record],
            )?;
            Ok(db.last_insert_rowid())
        })
    }

    /// Ends a run: its status, record, the actions it used and the objects it needs kept.
    ///
    /// # Errors
    /// The index cannot be written.
    pub fn finish_run(
        &self,
        id: i64,
        status: &str,
        record: &str,
        actions: &[Digest],
        objects: &BTreeSet<Digest>,
    ) -> Result<()> {
        self.index(|db| {
            let t = db.transaction_with_behavior(TransactionBehavior::Immediate)?;
            t.execute(
                "UPDATE runs SET finished = ?2, status = ?3, record = ?4 WHERE id = ?1",
                params![id, milliseconds_now(), status, record],
            )?;
            {
                let mut used = t.prepare("INSERT OR IGNORE INTO run_actions (run, key) VALUES (?1, ?2)")?;
                for key in actions {
                    used.execute(params![id, key.hex()])?;
                }
                let mut had = t.prepare("INSERT OR IGNORE INTO run_objects (run, digest) VALUES (?1, ?2)")?;
                for digest in objects {
                    had.execute(params![id, digest.hex()])?;
                }
            }
            t.commit()
        })
    }

    /// All runs, the newest first.
    ///
    /// # Errors
    /// The index cannot be read.
    pub fn runs(&self) -> Result<Vec<RunRow>> {
        self.index(|db| {
            db.prepare(&format!("SELECT {COLUMNS} FROM runs ORDER BY id DESC"))?.query_map([], row)?.collect()
        })
    }

    /// One run by its number.
    ///
    /// # Errors
    /// The index cannot be read.
    pub fn run(&self, id: i64) -> Result<Option<RunRow>> {
        self.index(|db| db.query_row(&format!("SELECT {COLUMNS} FROM runs WHERE id = ?1"), [id], row).optional())
    }
}

/// Milliseconds since 1970-01-01 UTC.
fn milliseconds_now() -> i64 {
    SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(0, |d| d.as_millis() as i64)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_are_listed_newest_first() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(dir.path()).unwrap();
        let first = store.start_run("/w", "{}").unwrap();
        let second = store.start_run("/w", "{}").unwrap();
        store.finish_run(first, "failed", "{\"why\":1}", &[], &BTreeSet::new()).unwrap();
        let ids: Vec<i64> = store.runs().unwrap().iter().map(|r| r.id).collect();
        assert_eq!(ids, [second, first]);
        let row = store.run(first).unwrap().unwrap();
        assert_eq!((row.status.as_str(), row.record.as_str()), ("failed", "{\"why\":1}"));
        assert!(row.finished.is_some());
        assert_eq!(store.run(99).unwrap(), None);
    }
}

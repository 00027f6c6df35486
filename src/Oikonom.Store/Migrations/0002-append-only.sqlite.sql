CREATE TRIGGER ledger_no_update BEFORE UPDATE ON ledger BEGIN SELECT RAISE(ABORT, 'the ledger is append-only'); END;
CREATE TRIGGER ledger_no_delete BEFORE DELETE ON ledger BEGIN SELECT RAISE(ABORT, 'the ledger is append-only'); END;
CREATE TRIGGER leaves_no_update BEFORE UPDATE ON ledger_leaves BEGIN SELECT RAISE(ABORT, 'the ledger is append-only'); END;
CREATE TRIGGER leaves_no_delete BEFORE DELETE ON ledger_leaves BEGIN SELECT RAISE(ABORT, 'the ledger is append-only'); END;
CREATE TRIGGER heads_no_update BEFORE UPDATE ON ledger_heads BEGIN SELECT RAISE(ABORT, 'the ledger is append-only'); END;
CREATE TRIGGER heads_no_delete BEFORE DELETE ON ledger_heads BEGIN SELECT RAISE(ABORT, 'the ledger is append-only'); END;
CREATE TRIGGER editions_no_update BEFORE UPDATE ON editions BEGIN SELECT RAISE(ABORT, 'editions are immutable'); END;
CREATE TRIGGER editions_no_delete BEFORE DELETE ON editions BEGIN SELECT RAISE(ABORT, 'editions are immutable'); END;

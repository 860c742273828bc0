-- How controllers on the plant take their settings is saved for the works, too.
alter table saved drop constraint saved_kind_check;
alter table saved add constraint saved_kind_check
    check (kind in ('plant', 'scenario', 'candidate', 'proving_set', 'target'));

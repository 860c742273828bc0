-- The dossier of a loop: what a person chose and wrote for it. All else in it is made from the other rows.
create table dossier (
    -- What changes are told by.
    id uuid primary key default gen_random_uuid(),
    loop_id uuid not null unique references control_loop (id) on delete cascade,
    spec jsonb not null,
    revision bigint not null default 1,
    written_at timestamptz not null default now()
);
create trigger tell after insert or update or delete on dossier for each row execute function tell_change();

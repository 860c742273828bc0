-- What is saved with a loop to be used again: plants and scenarios, by name.
create table saved (
    loop_id uuid not null references control_loop (id) on delete cascade,
    kind text not null check (kind in ('plant', 'scenario')),
    name text not null,
    spec jsonb not null,
    saved_at timestamptz not null default now(),
    primary key (loop_id, kind, name)
);

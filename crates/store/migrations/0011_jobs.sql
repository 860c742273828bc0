-- Long work, cut into pieces that any worker can do by itself. Which piece is whose turn stands in the schema of the queue.
create table job (
    id uuid primary key,
    kind text not null,
    -- What is asked for, and later the pieces and what came out: text, so that every number comes back as it was written.
    request json not null,
    engine integer not null,
    stage text not null default 'running' check (stage in ('running', 'closing', 'done', 'failed')),
    outcome json,
    problem json,
    begun_at timestamptz not null default now(),
    ended_at timestamptz
);
create index job_by_kind on job (kind, stage);
create table job_piece (
    job_id uuid not null references job (id) on delete cascade,
    number integer not null,
    first integer not null,
    count integer not null check (count > 0),
    result json,
    -- Who did it.
    worker text,
    primary key (job_id, number)
);

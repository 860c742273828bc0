-- Areas and their control loops.
create table area (
    id uuid primary key,
    position integer not null,
    name text not null unique
);

create table control_loop (
    id uuid primary key,
    area_id uuid not null references area (id),
    position integer not null,
    tag text not null unique,
    name text not null,
    difficulty text not null,
    -- Tag and span of each signal, as in a trial.
    pv jsonb not null,
    op jsonb not null
);

-- Plant data: never altered once stored.
create table record (
    id uuid primary key,
    loop_id uuid not null references control_loop (id),
    name text not null,
    origin text not null,
    started text,
    -- Seconds between samples; null where the times are stored as samples of their own.
    sample_interval double precision,
    duration double precision not null,
    length integer not null,
    content_hash text not null,
    notes jsonb not null,
    -- A few values of the PV, for a small trend.
    thumbnail jsonb not null,
    created_at timestamptz not null default now()
);

create index on record (loop_id, created_at);

create table channel (
    record_id uuid not null references record (id) on delete cascade,
    position integer not null,
    tag text not null,
    role text not null,
    unit text not null,
    primary key (record_id, position)
);

-- Samples as little-endian doubles; position -1 holds the times of an irregular record.
create table chunk (
    record_id uuid not null references record (id) on delete cascade,
    position integer not null,
    sequence integer not null,
    samples bytea not null,
    primary key (record_id, position, sequence)
);

alter table chunk alter column samples set storage external;

create table model (
    id uuid primary key,
    loop_id uuid not null references control_loop (id),
    number integer not null,
    record_id uuid not null references record (id),
    record_hash text not null,
    window_from double precision not null,
    window_to double precision not null,
    chosen boolean not null,
    result jsonb not null,
    created_at timestamptz not null default now(),
    unique (loop_id, number)
);

create unique index one_chosen_model on model (loop_id) where chosen;

create table trial (
    id uuid primary key,
    loop_id uuid not null references control_loop (id),
    number integer not null,
    model_id uuid references model (id),
    label text not null,
    pinned boolean not null default false,
    digest text not null,
    spec jsonb not null,
    assessment jsonb not null,
    created_at timestamptz not null default now(),
    unique (loop_id, number),
    unique (loop_id, digest)
);

create unique index one_pinned_trial on trial (loop_id) where pinned;

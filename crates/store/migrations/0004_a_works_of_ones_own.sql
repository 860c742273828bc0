-- What the user makes is renamed, annotated, deleted into a bin, and brought back; every document has a revision.

-- A deletion is one act: all rows that went with it carry its id, come back with it, and go for good with it.
create table deletion (
    id uuid primary key,
    kind text not null check (kind in ('area', 'loop', 'record', 'model', 'trial', 'saved')),
    -- What was deleted, in words, and what went with it.
    title text not null,
    along jsonb not null default '[]',
    -- The loop that it was in, where it was in one.
    loop_id uuid,
    deleted_at timestamptz not null default now()
);

alter table area
    add column notes text not null default '',
    add column revision bigint not null default 1,
    add column deletion_id uuid references deletion (id) on delete cascade,
    drop constraint area_name_key;
create unique index area_name on area (name) where deletion_id is null;

alter table control_loop
    add column notes text not null default '',
    -- Whether the span of the PV was guessed from data and nobody has set it yet.
    add column span_is_guess boolean not null default false,
    add column made_at timestamptz not null default now(),
    add column revision bigint not null default 1,
    add column deletion_id uuid references deletion (id) on delete cascade,
    drop constraint control_loop_tag_key,
    drop constraint control_loop_area_id_fkey,
    add constraint control_loop_area_id_fkey foreign key (area_id) references area (id) on delete cascade;
create unique index control_loop_tag on control_loop (tag) where deletion_id is null;

alter table record
    add column remark text not null default '',
    add column revision bigint not null default 1,
    add column deletion_id uuid references deletion (id) on delete cascade,
    drop constraint record_loop_id_fkey,
    add constraint record_loop_id_fkey foreign key (loop_id) references control_loop (id) on delete cascade;

alter table model
    add column name text not null default '',
    add column remark text not null default '',
    add column revision bigint not null default 1,
    add column deletion_id uuid references deletion (id) on delete cascade,
    drop constraint model_loop_id_fkey,
    add constraint model_loop_id_fkey foreign key (loop_id) references control_loop (id) on delete cascade,
    drop constraint model_record_id_fkey,
    add constraint model_record_id_fkey foreign key (record_id) references record (id) on delete cascade,
    drop constraint model_reduced_from_fkey,
    add constraint model_reduced_from_fkey foreign key (reduced_from) references model (id) on delete set null;
drop index one_chosen_model;
create unique index one_chosen_model on model (loop_id) where chosen and deletion_id is null;

alter table trial
    add column remark text not null default '',
    add column starred boolean not null default false,
    add column revision bigint not null default 1,
    add column deletion_id uuid references deletion (id) on delete cascade,
    drop constraint trial_loop_id_fkey,
    add constraint trial_loop_id_fkey foreign key (loop_id) references control_loop (id) on delete cascade,
    drop constraint trial_model_id_fkey,
    add constraint trial_model_id_fkey foreign key (model_id) references model (id) on delete set null,
    drop constraint trial_loop_id_digest_key;
create unique index trial_digest on trial (loop_id, digest) where deletion_id is null;
drop index one_pinned_trial;
create unique index one_pinned_trial on trial (loop_id) where pinned and deletion_id is null;

-- Plants, scenarios and candidates are saved for the whole works. Names that stood in several loops get the loop's tag.
create table saved_for_works (
    id uuid primary key,
    kind text not null check (kind in ('plant', 'scenario', 'candidate')),
    name text not null,
    remark text not null default '',
    -- The loop that it was made in.
    loop_id uuid references control_loop (id) on delete set null,
    spec jsonb not null,
    revision bigint not null default 1,
    saved_at timestamptz not null default now(),
    deletion_id uuid references deletion (id) on delete cascade
);
insert into saved_for_works (id, kind, name, loop_id, spec, saved_at)
select
    gen_random_uuid(),
    saved.kind,
    case
        when count(*) over (partition by saved.kind, saved.name) = 1 then saved.name
        else saved.name || ' (' || control_loop.tag || ')'
    end,
    saved.loop_id,
    saved.spec,
    saved.saved_at
from saved join control_loop on control_loop.id = saved.loop_id;
drop table saved;
alter table saved_for_works rename to saved;
create unique index saved_name on saved (kind, name) where deletion_id is null;

-- Whoever listens is told what changed, by whichever program.
create function tell_change() returns trigger language plpgsql as $$
declare
    row_now jsonb := to_jsonb(coalesce(new, old));
begin
    perform pg_notify('antistasis_changes', json_build_object(
        'kind', tg_table_name,
        'action', lower(tg_op),
        'id', row_now ->> 'id',
        'loop_id', case when tg_table_name = 'control_loop' then row_now ->> 'id' else row_now ->> 'loop_id' end,
        'revision', row_now -> 'revision'
    )::text);
    return null;
end
$$;
create trigger tell after insert or update or delete on area for each row execute function tell_change();
create trigger tell after insert or update or delete on control_loop for each row execute function tell_change();
create trigger tell after insert or update or delete on record for each row execute function tell_change();
create trigger tell after insert or update or delete on model for each row execute function tell_change();
create trigger tell after insert or update or delete on trial for each row execute function tell_change();
create trigger tell after insert or update or delete on saved for each row execute function tell_change();
create trigger tell after insert or update or delete on deletion for each row execute function tell_change();

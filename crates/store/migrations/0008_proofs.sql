-- Proofs: candidates under disturbances with limits, and the tables that came out. Proving sets are saved for the works.
alter table deletion drop constraint deletion_kind_check;
alter table deletion add constraint deletion_kind_check
    check (kind in ('area', 'loop', 'record', 'model', 'trial', 'saved', 'proof'));

-- The constraint of the table that became this one kept its name.
do $$
declare
    known text;
begin
    for known in
        select conname from pg_constraint where conrelid = 'saved'::regclass and contype = 'c'
            and pg_get_constraintdef(oid) like '%scenario%'
    loop
        execute format('alter table saved drop constraint %I', known);
    end loop;
end
$$;
alter table saved add constraint saved_kind_check check (kind in ('plant', 'scenario', 'candidate', 'proving_set'));

create table proof (
    id uuid primary key,
    loop_id uuid not null references control_loop (id) on delete cascade,
    -- In the order made, from 1.
    number integer not null,
    -- The model that the uncertainty of its plant comes from.
    model_id uuid references model (id) on delete set null,
    label text not null,
    remark text not null default '',
    digest text not null,
    spec jsonb not null,
    result jsonb not null,
    engine integer not null,
    revision bigint not null default 1,
    created_at timestamptz not null default now(),
    deletion_id uuid references deletion (id) on delete cascade,
    unique (loop_id, number)
);
create unique index proof_digest on proof (loop_id, digest) where deletion_id is null;
create trigger tell after insert or update or delete on proof for each row execute function tell_change();

-- A proof is a change of its loop as well.
create or replace view loop_summary as
select l.id, area.name as area, area.position as area_position, l.position, l.tag, l.name, l.difficulty, l.pv,
    (select count(*) from record where loop_id = l.id and deletion_id is null) as records,
    newest.duration, newest.thumbnail,
    (select count(*) from model where loop_id = l.id and deletion_id is null) as models,
    told.chosen, told.structure, coalesce(told.validated, told.fitted) as fit_percent,
    told.validated is not null as fit_is_on_new_data,
    (select count(*) from trial where loop_id = l.id and deletion_id is null) as trials,
    greatest(l.made_at,
        (select max(created_at) from record where loop_id = l.id and deletion_id is null),
        (select max(created_at) from model where loop_id = l.id and deletion_id is null),
        (select max(created_at) from trial where loop_id = l.id and deletion_id is null),
        (select max(created_at) from proof where loop_id = l.id and deletion_id is null)) as changed_at
from control_loop l join area on area.id = l.area_id
left join lateral (select duration, thumbnail from record where loop_id = l.id and deletion_id is null
    order by created_at desc, id desc limit 1) newest on true
left join lateral (select chosen, result -> 'structure' as structure,
        (result -> 'estimation' ->> 'fit_simulated')::double precision as fitted,
        (validation -> 'performance' ->> 'fit_simulated')::double precision as validated
    from model where loop_id = l.id and deletion_id is null order by chosen desc, number desc limit 1) told on true
where l.deletion_id is null;

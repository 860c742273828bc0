-- Steps laid over a record, in their order.
alter table record add column preparation jsonb not null default '[]';

-- A simulated plant behind the loop, on which experiments can be run.
alter table control_loop add column plant jsonb;

-- Models of the first version hold one structure in a form of its own. They are fitted again from their records, which stay; trials stay
-- with the process that they were made with.
update trial set model_id = null;
delete from model;

alter table model
    add column options jsonb not null,
    add column preparation jsonb not null,
    add column validation_from double precision,
    add column validation_to double precision,
    add column validation jsonb,
    add column reason text not null default '',
    add column reduced_from uuid references model (id);

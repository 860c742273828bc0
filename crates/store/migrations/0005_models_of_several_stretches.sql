-- A model is fitted to one stretch of a record, or to several together, of that record and of others.
alter table model
    -- Stretches beyond the first: record_id, record_hash, preparation, from, to.
    add column further jsonb not null default '[]';
create index model_further on model using gin (further jsonb_path_ops);

-- What was computed keeps the version of the engine that did it.
alter table trial add column engine integer not null default 1;

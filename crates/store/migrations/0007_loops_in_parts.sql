-- What a loop is shown by in a list: where it stands, what it holds, the model it goes by and when it last changed.
create view loop_summary as
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
        (select max(created_at) from trial where loop_id = l.id and deletion_id is null)) as changed_at
from control_loop l join area on area.id = l.area_id
left join lateral (select duration, thumbnail from record where loop_id = l.id and deletion_id is null
    order by created_at desc, id desc limit 1) newest on true
left join lateral (select chosen, result -> 'structure' as structure,
        (result -> 'estimation' ->> 'fit_simulated')::double precision as fitted,
        (validation -> 'performance' ->> 'fit_simulated')::double precision as validated
    from model where loop_id = l.id and deletion_id is null order by chosen desc, number desc limit 1) told on true
where l.deletion_id is null;

-- +goose Up
create index audit_job on audit ((detail->>'job'));
create index audit_who on audit (who, id desc);
create index audit_what on audit (what, id desc);
-- How fast the last transfers of a kind between hosts went.
create index steps_paces on steps (kind, uses, finished_at desc)
    where state = 'done' and done >= 8388608 and uses is not null;

-- +goose Down
drop index audit_job;
drop index audit_who;
drop index audit_what;
drop index steps_paces;

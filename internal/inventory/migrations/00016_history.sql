-- +goose Up
create index audit_job on audit ((detail->>'job'));
create index audit_who on audit (who, id desc);
create index audit_what on audit (what, id desc);

-- +goose Down
drop index audit_job;
drop index audit_who;
drop index audit_what;

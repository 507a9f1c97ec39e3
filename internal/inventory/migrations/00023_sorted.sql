-- +goose Up
-- What names are in order by, and found by: one index does both, whatever order the database's language has.
alter table copies add column sort text collate "C" not null generated always as (lower(name)) stored;
alter table lineages add column sort text collate "C" not null generated always as (lower(name)) stored;
alter table hosts add column sort text collate "C" not null generated always as (lower(name)) stored;
alter table pools add column sort text collate "C" not null generated always as (lower(name)) stored;
alter table managers add column sort text collate "C" not null generated always as (lower(name)) stored;
alter table loose_disks add column sort text collate "C" not null generated always as (lower(name)) stored;

drop index copies_page, copies_host, copies_form, copies_state, copies_owner, copies_name_like, copies_untracked,
    lineages_page, lineages_name_like, hosts_page, hosts_site, hosts_state, hosts_family, hosts_name_like, pools_page,
    loose_disks_page;
create index copies_page on copies (sort, id) where gone_at is null;
create index copies_host on copies (host_id, sort, id);
create index copies_form on copies (form, sort, id) where gone_at is null;
create index copies_state on copies (state, sort, id) where gone_at is null;
create index copies_pool on copies (pool_id, sort, id) where gone_at is null;
create index copies_owner on copies (owner, sort, id) where gone_at is null and owner <> '';
create index copies_untracked on copies (sort, id) where not tracked and gone_at is null;
create index copies_name_like on copies using gin (sort gin_trgm_ops) where gone_at is null;
create index copies_hollow on copies (name, id) where gone_at is null and form = 'hollow' and tracked;
create index copies_stray on copies (name, id) where gone_at is null and form = 'stray' and problem = ''
    and candidate_id is null;
create index lineages_page on lineages (sort, id);
create index lineages_name_like on lineages using gin (sort gin_trgm_ops);
create index hosts_page on hosts (sort, id);
create index hosts_site on hosts (site, sort, id);
create index hosts_state on hosts ((case when state = 'up' and resting then 'resting' else state end), sort, id);
create index hosts_family on hosts (family, sort, id);
create index hosts_name_like on hosts using gin (sort gin_trgm_ops);
create index pools_page on pools (sort, id);
create index pools_name_like on pools using gin (sort gin_trgm_ops);
create index loose_disks_page on loose_disks (sort, id);
create index switches_name_like on switches using gin (lower(name) gin_trgm_ops);
create index switches_segment on switches (segment, host_id);
create index audit_subject on audit (subject, id desc);
create index audit_subject_like on audit using gin (subject gin_trgm_ops);

-- +goose Down
drop index switches_segment, switches_name_like, audit_subject, audit_subject_like;
drop index copies_pool, copies_hollow, copies_stray;
alter table copies drop column sort;
alter table lineages drop column sort;
alter table hosts drop column sort;
alter table pools drop column sort;
alter table managers drop column sort;
alter table loose_disks drop column sort;
create index copies_page on copies (name, id) where gone_at is null;
create index copies_host on copies (host_id, name, id);
create index copies_form on copies (form, name, id) where gone_at is null;
create index copies_state on copies (state, name, id) where gone_at is null;
create index copies_owner on copies (owner, host_id) where gone_at is null and owner <> '';
create index copies_untracked on copies (host_id) where not tracked and gone_at is null;
create index copies_name_like on copies using gin (name gin_trgm_ops);
create index lineages_page on lineages (name, id);
create index lineages_name_like on lineages using gin (name gin_trgm_ops);
create index hosts_page on hosts (name, id);
create index hosts_site on hosts (site, name, id);
create index hosts_state on hosts ((case when state = 'up' and resting then 'resting' else state end), name, id);
create index hosts_family on hosts (family, name, id);
create index hosts_name_like on hosts using gin (name gin_trgm_ops);
create index pools_page on pools (name, id);
create index loose_disks_page on loose_disks (name, id);

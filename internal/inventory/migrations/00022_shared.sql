-- +goose Up
-- What more than one machine has, of that which only one should have: few values of many, kept so that none has to be
-- looked for. Triggers keep them; two transactions at the same moment may each miss the other's, so they are also found
-- anew from time to time.
create table shared (
    kind text not null check (kind in ('uuid', 'mac', 'path')),
    value text not null, -- of a path: HOST-ID:PATH
    primary key (kind, value)
);
-- Lineages that had several copies, of which one is left.
create table last_copies (
    lineage_id uuid primary key references lineages on delete cascade,
    copy_id uuid not null references copies on delete cascade
);
create index last_copies_copy on last_copies (copy_id);

-- +goose StatementBegin
create function note_shared(k text, v text, yes boolean) returns void language sql as $$
    insert into shared (kind, value) select k, v where yes on conflict do nothing;
    delete from shared where not yes and kind = k and value = v;
$$;
-- +goose StatementEnd
-- +goose StatementBegin
create function note_uuid(v uuid) returns void language plpgsql as $$
begin
    if v is not null then
        perform note_shared('uuid', v::text, (select count(*) > 1 from (select 1 from copies c where c.uuid = v
            and c.form = 'registered' and c.gone_at is null and c.tracked limit 2) x));
    end if;
end $$;
-- +goose StatementEnd
-- +goose StatementBegin
create function note_mac(v macaddr) returns void language plpgsql as $$
begin
    -- of those that share their UUID too, that is told
    perform note_shared('mac', v::text, (select count(*) > 1 from (select distinct coalesce(c.uuid, c.id) from nics n
        join copies c on c.id = n.copy_id where n.mac = v and c.form = 'registered' and c.gone_at is null and c.tracked
        limit 2) x));
end $$;
-- +goose StatementEnd
-- +goose StatementBegin
create function note_path(h uuid, v text) returns void language plpgsql as $$
begin
    if h is not null then
        perform note_shared('path', h || ':' || v, (select count(*) > 1 from (select distinct c.id from copy_disks d
            join copies c on c.id = d.copy_id where d.path = v and c.host_id = h and c.form = 'registered'
            and c.gone_at is null limit 2) x));
    end if;
end $$;
-- +goose StatementEnd
-- +goose StatementBegin
create function note_last(l uuid) returns void language plpgsql as $$
declare
    one uuid;
begin
    -- of a large lineage two that are there are soon found
    if (select count(*) = 1 from (select 1 from copies where lineage_id = l and gone_at is null and form <> 'hollow'
        limit 2) x) then
        select (array_agg(id) filter (where gone_at is null and form <> 'hollow'))[1] into one from copies
            where lineage_id = l having count(*) > 1;
    end if;
    if one is null then
        delete from last_copies where lineage_id = l;
    else
        insert into last_copies values (l, one) on conflict (lineage_id) do update set copy_id = excluded.copy_id;
    end if;
end $$;
-- +goose StatementEnd

-- +goose StatementBegin
create function copy_shares() returns trigger language plpgsql as $$
declare
    x record;
begin
    if tg_op = 'UPDATE' and (old.uuid, old.form, old.gone_at is null, old.tracked, old.host_id, old.lineage_id)
        is not distinct from (new.uuid, new.form, new.gone_at is null, new.tracked, new.host_id, new.lineage_id) then
        return null;
    end if;
    if tg_op <> 'INSERT' then
        perform note_uuid(old.uuid);
        perform note_last(old.lineage_id);
    end if;
    if tg_op <> 'DELETE' then
        perform note_uuid(new.uuid);
        perform note_last(new.lineage_id);
    end if;
    if tg_op = 'UPDATE' then -- those of a row that comes or goes have triggers of their own
        for x in select mac from nics where copy_id = new.id loop
            perform note_mac(x.mac);
        end loop;
        for x in select path from copy_disks where copy_id = new.id loop
            perform note_path(old.host_id, x.path);
            perform note_path(new.host_id, x.path);
        end loop;
    end if;
    return null;
end $$;
-- +goose StatementEnd
create trigger copies_shares after insert or update or delete on copies for each row execute function copy_shares();
-- +goose StatementBegin
create function nic_shares() returns trigger language plpgsql as $$
begin
    if tg_op <> 'INSERT' then
        perform note_mac(old.mac);
    end if;
    if tg_op <> 'DELETE' then
        perform note_mac(new.mac);
    end if;
    return null;
end $$;
-- +goose StatementEnd
create trigger nics_shares after insert or update of mac or delete on nics for each row execute function nic_shares();
-- +goose StatementBegin
create function disk_shares() returns trigger language plpgsql as $$
begin
    if tg_op <> 'INSERT' then
        perform note_path((select host_id from copies where id = old.copy_id), old.path);
    end if;
    if tg_op <> 'DELETE' then
        perform note_path((select host_id from copies where id = new.copy_id), new.path);
    end if;
    return null;
end $$;
-- +goose StatementEnd
create trigger copy_disks_shares after insert or update of path or delete on copy_disks
    for each row execute function disk_shares();

-- What is shared, found anew; and the same of last copies.
-- +goose StatementBegin
create function shared_anew() returns void language plpgsql as $$
begin
    create temp table found on commit drop as
        select 'uuid' as kind, uuid::text as value from copies
            where form = 'registered' and gone_at is null and tracked and uuid is not null
            group by uuid having count(*) > 1
        union all
        select 'mac', n.mac::text from (select mac from nics group by mac having count(*) > 1) n
            where (select count(distinct coalesce(c.uuid, c.id)) from nics x join copies c on c.id = x.copy_id
                where x.mac = n.mac
                and c.form = 'registered' and c.gone_at is null and c.tracked) > 1
        union all
        select 'path', c.host_id || ':' || d.path from copy_disks d join copies c on c.id = d.copy_id
            where c.form = 'registered' and c.gone_at is null and c.host_id is not null
            group by c.host_id, d.path having count(distinct c.id) > 1;
    insert into shared select kind, value from found on conflict do nothing;
    perform case kind when 'uuid' then note_uuid(value::uuid) when 'mac' then note_mac(value::macaddr)
        else note_path(split_part(value, ':', 1)::uuid, substr(value, 38)) end
        from shared s where not exists (select 1 from found f where (f.kind, f.value) = (s.kind, s.value));
    drop table found;
    perform note_last(lineage_id) from (select lineage_id from copies group by lineage_id having count(*) > 1
        and count(*) filter (where gone_at is null and form <> 'hollow') = 1
        union select lineage_id from last_copies) x;
end $$;
-- +goose StatementEnd
select shared_anew();

-- Each cause of attention is read in the order of an index.
create index copies_unsure on copies (name, id) where candidate_id is not null and form <> 'package' and gone_at is null;
create index copies_lost on copies (name, id) where form = 'stray' and problem <> '' and gone_at is null;
drop index copies_problem;
create index copies_problem on copies (name, id) where problem <> '' and gone_at is null;
drop index copies_first_start;
create index copies_first_start on copies (name, id)
    where gone_at is null and machine -> 'devices' @> '[{"file": "first-start.iso"}]';
drop index copies_on_snapshots;
create index copies_on_snapshots on copies (name, id) where gone_at is null and machine ? 'tree';
drop index pools_filling;
create index pools_filling on pools (name, id) where free_bytes < total_bytes / 20;
drop index copy_disks_faults;
create index copy_disks_parentless on copy_disks (copy_id, position)
    where faults <> '[]' and faults #>> '{0,code}' like 'disk.parent-%';
create index copy_disks_damaged on copy_disks (copy_id, position)
    where faults <> '[]' and faults #>> '{0,code}' not like 'disk.parent-%';
create index shelves_room on shelves (free_bytes desc, name);
create index hosts_unread on hosts (name, id) where unread <> '{}';
create index hosts_bare on hosts (name, id) where bare <> '[]';
create index hosts_silent on hosts (last_seen) where state = 'unreachable';
create index jobs_undone on jobs (id) where state in ('failed', 'partly') and parent is null;
create index jobs_held on jobs (id) where state = 'held' and held_for <> '';
create index jobs_waiting_for_client on jobs (id) where state = 'working' and needs_client;
create index jobs_done on jobs (operation, subject, created_at) where state = 'done';

-- +goose Down
drop index jobs_done;
drop index jobs_waiting_for_client;
drop index jobs_held;
drop index jobs_undone;
drop index shelves_room;
drop index hosts_silent;
drop index hosts_bare;
drop index hosts_unread;
drop index copies_lost;
create index copy_disks_faults on copy_disks (copy_id) where faults <> '[]';
drop index copy_disks_parentless;
drop index copy_disks_damaged;
drop index copies_unsure;
drop trigger copy_disks_shares on copy_disks;
drop trigger nics_shares on nics;
drop trigger copies_shares on copies;
drop function disk_shares, nic_shares, copy_shares, shared_anew, note_last, note_path, note_mac, note_uuid, note_shared;
drop table last_copies;
drop table shared;

-- +goose Up
-- Disks of copies as they were seen: what they are recognised by, and what is
-- wrong with them.
create table copy_disks (
    copy_id uuid not null references copies on delete cascade,
    position integer not null,
    disk text not null,
    path text not null,
    image_id text not null default '',
    virtual_bytes bigint not null default 0,
    layers text[] not null default '{}',
    faults jsonb not null default '[]',
    print text not null default '',   -- of all samples, to see whether they changed
    samples jsonb not null default '[]',
    written_at timestamptz,
    tails text[] not null default '{}', -- of the paths of all layers: folder and file, as every host sees them
    primary key (copy_id, position)
);
create index copy_disks_tails on copy_disks using gin (tails);
create index copy_disks_image on copy_disks (image_id) where image_id <> '';
create index copy_disks_path on copy_disks (path);
create index copy_disks_faults on copy_disks (copy_id) where faults <> '[]';

-- Samples of contents, to find copies by.
create table disk_samples (
    hash bigint not null,
    cell bigint not null,
    copy_id uuid not null references copies on delete cascade
);
create index disk_samples_hash on disk_samples (hash, cell);
create index disk_samples_copy on disk_samples (copy_id);

-- How a copy that was found was recognised, what it may be a copy of, and who
-- has said so.
alter table copies add column evidence jsonb not null default '[]', add column score integer not null default 0,
    add column candidate_id uuid references copies on delete set null, add column settled_by text not null default '', add column settled_at timestamptz,
    add column problem text not null default ''; -- why its descriptor can't be read, or what is wrong with a package
create index copies_candidate on copies (candidate_id) where candidate_id is not null;
create index copies_problem on copies (id) where problem <> '' and gone_at is null;
create index copies_untracked on copies (host_id) where not tracked and gone_at is null;

-- Directories with disks that nothing describes, as the host told them.
alter table hosts add column bare jsonb not null default '[]';

-- What somebody wants left as it is, for a while.
create table left_alone (
    id text primary key, -- of the item of attention
    reason text not null,
    who text not null,
    at timestamptz not null default now(),
    until timestamptz not null
);

-- What was asked for, so that a job that failed can be asked for again.
alter table jobs add column request jsonb not null default '{}';

create table machines (
    id text primary key,
    identifier text not null unique,
    name_key text unique,
    state text not null,
    version bigint not null,
    key_hash text unique,
    seen text,
    document text not null,
    fills text
);
create table events (
    sequence {identity},
    machine text not null,
    time text not null,
    kind text not null,
    level text not null,
    text text not null,
    who text not null,
    source text unique
);
create index events_of_machine on events (machine, sequence);
create table progress (
    machine text primary key,
    task text not null,
    number bigint not null,
    document text not null
);
create table tokens (
    name text primary key,
    hash text not null unique,
    role text not null,
    created text not null,
    made_by text not null,
    until text,
    used text,
    pin text
);
create table sessions (
    hash text primary key,
    token text not null,
    until text not null
);
create table audit (
    sequence {identity},
    time text not null,
    who text not null,
    address text not null,
    action text not null,
    subject text not null,
    text text not null
);
create table stations (
    address text primary key,
    seen text not null
);

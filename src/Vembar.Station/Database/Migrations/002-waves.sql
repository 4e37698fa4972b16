create table waves (
    number {identity},
    state text not null,
    version bigint not null,
    station text not null,
    document text not null
);

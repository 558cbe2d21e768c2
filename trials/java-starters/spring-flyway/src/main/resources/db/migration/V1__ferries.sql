create table ferries (name varchar(40));

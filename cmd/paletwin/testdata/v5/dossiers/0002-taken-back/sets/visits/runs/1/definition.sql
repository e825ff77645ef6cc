CREATE TABLE visits(id text primary key, aid text, crew text check(crew<>'X'));

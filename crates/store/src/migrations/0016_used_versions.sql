-- Which version of a definition a run was made with is found by its text.
create index definition_versions_by_text on definition_versions (md5(text));

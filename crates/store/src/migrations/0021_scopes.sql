-- A token may be good for looking, or for looking and running reports.
alter table api_tokens drop constraint api_tokens_scope_check;
alter table api_tokens add constraint api_tokens_scope_check check (scope in ({token_scopes}));

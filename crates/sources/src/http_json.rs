//! Any service that answers requests in JSON.

use maple_lark_data::{Column, Table, Value, stop};
use maple_lark_definition::{Field, Pages, PlaceholderText, Request, Source, Web};
use reqwest::{Method, Url, header::LINK};
use serde_json::Value as Json;
use serde_json_path::JsonPath;

use crate::{
    Answer, BadCell, Question, Reader, SourceError, cells,
    filled::not_filled,
    json,
    threads::computed,
    web::{Call, shown, without_sign_in},
};

#[expect(
    clippy::too_many_lines,
    reason = "follows pages, whose three kinds share what came before"
)]
pub async fn read(
    reader: &Reader,
    source: &Source,
    web: &Web,
    request: &Request,
    question: Question<'_>,
) -> Result<Answer, SourceError> {
    let mut call = first_call(reader, source, web, request, question).await?;
    let sent = format!(
        "{} {}{}",
        call.method,
        without_sign_in(&call.url),
        call.body
            .as_ref()
            .map(|body| format!("\n{body}"))
            .unwrap_or_default()
    );
    let column = |field: &Field| Column {
        name: field.name.clone(),
        kind: field.kind,
    };
    let mut table = Table {
        columns: request.fields.iter().map(column).collect(),
        ..Table::default()
    };
    let first = call.url.clone();
    if let Some(Pages::Number {
        key, first: number, ..
    }) = &request.pages
    {
        set_query(&mut call.url, key, &number.to_string());
    }
    for page in 1.. {
        let address = shown(&call.url);
        let failed = |words: String| SourceError::Answer {
            source_name: source.name.clone(),
            address: address.clone(),
            words,
        };
        let response = reader.call(source, web, &call).await?;
        let link = response.headers().get(LINK);
        let link = link.and_then(|link| link.to_str().ok()).and_then(next_link);
        let bytes = reader.bytes(source, &address, response).await?;
        let before = table.rows.len();
        let json;
        (json, table) = page_of(source, request, &address, bytes, table).await?;
        if table.truncated {
            break;
        }
        let Some(pages) = &request.pages else { break };
        let next = match pages {
            Pages::NextLink { path, .. } => {
                let written = match path {
                    Some(path) => text_at(&json, path),
                    None => link,
                };
                let followed = written.map(|written| followed(&first, &call.url, &written));
                followed
                    .transpose()
                    .map_err(|error| failed(error.to_string()))?
            }
            Pages::Number {
                key, first: number, ..
            } => (table.rows.len() > before)
                .then(|| with_query(&first, key, &(number + page).to_string())),
            Pages::Cursor { path, key, .. } => {
                text_at(&json, path).map(|cursor| with_query(&first, key, &cursor))
            }
        };
        let Some(next) = next else { break };
        if next == call.url {
            let words = "it says it goes on at the page it is itself";
            return Err(failed(words.to_owned()));
        }
        if page as usize >= pages.max_pages() {
            table.truncated = true;
            break;
        }
        call.url = next;
    }
    Ok(Answer::of(table, sent))
}

/// What one page has, read into the rows that came before.
async fn page_of(
    source: &Source,
    request: &Request,
    address: &str,
    bytes: Vec<u8>,
    mut table: Table,
) -> Result<(Json, Table), SourceError> {
    let (of, request, address) = (source.clone(), request.clone(), address.to_owned());
    computed(source, move || {
        let json = json::parse(&of, &address, &bytes)?;
        Paths::new(&of, &request)?.add_rows(&of, &json, &request, &mut table)?;
        Ok((json, table))
    })
    .await
}

/// The request with the window's times and the parameters' values in their places.
async fn first_call(
    reader: &Reader,
    source: &Source,
    web: &Web,
    request: &Request,
    question: Question<'_>,
) -> Result<Call, SourceError> {
    let fill = |name: &str| question.filler(name);
    let refused = |error| not_filled(source, error);
    let filled = |pairs: &[(String, PlaceholderText)]| {
        pairs
            .iter()
            .map(|(name, template)| Ok((name.clone(), template.fill(&fill)?)))
            .collect::<Result<Vec<_>, _>>()
            .map_err(refused)
    };
    let path = request.path.fill_path(&fill).map_err(refused)?;
    let mut url = reader.url(source, web, &path).await?;
    if !request.send.is_empty() {
        url.query_pairs_mut().extend_pairs(filled(&request.send)?);
    }
    let body = request.body.as_ref().map(|body| body.fill(&fill));
    Ok(Call {
        method: if request.post {
            Method::POST
        } else {
            Method::GET
        },
        url,
        headers: filled(&request.headers)?,
        body: body.transpose().map_err(refused)?,
    })
}

/// Why the next page is not asked for.
#[derive(Debug, thiserror::Error)]
enum NotFollowed {
    #[error("\"{written}\", where it says it goes on, is not a URL: {error}")]
    NotAUrl {
        written: String,
        #[source]
        error: <Url as std::str::FromStr>::Err,
    },
    #[error("it says it goes on at {0}, which is another place and is not followed")]
    Elsewhere(String),
}

/// Where an answer says that it goes on.
fn followed(first: &Url, page: &Url, written: &str) -> Result<Url, NotFollowed> {
    let next = page.join(written).map_err(|error| NotFollowed::NotAUrl {
        written: written.to_owned(),
        error,
    })?;
    // A sign-in must not be carried to another place.
    if next.origin() != first.origin() {
        return Err(NotFollowed::Elsewhere(shown(&next)));
    }
    Ok(next)
}

fn with_query(url: &Url, key: &str, value: &str) -> Url {
    let mut url = url.clone();
    set_query(&mut url, key, value);
    url
}

fn set_query(url: &mut Url, key: &str, value: &str) {
    let kept: Vec<(String, String)> = url
        .query_pairs()
        .filter(|(known, _)| known != key)
        .map(|(key, value)| (key.into_owned(), value.into_owned()))
        .collect();
    url.query_pairs_mut()
        .clear()
        .extend_pairs(kept)
        .append_pair(key, value);
}

/// The target of rel="next" in a Link header (RFC 8288).
fn next_link(header: &str) -> Option<String> {
    header.split(',').find_map(|link| {
        let (target, parameters) = link.split_once(';')?;
        let next = parameters
            .split(';')
            .any(|parameter| matches!(parameter.trim().replace('"', "").as_str(), "rel=next"));
        next.then(|| {
            target
                .trim()
                .trim_start_matches('<')
                .trim_end_matches('>')
                .to_owned()
        })
    })
}

fn text_at(json: &Json, path: &str) -> Option<String> {
    let path = JsonPath::parse(path).ok()?;
    match path.query(json).first()? {
        Json::String(text) if !text.is_empty() => Some(text.clone()),
        Json::Number(number) => Some(number.to_string()),
        _ => None,
    }
}

/// The request's paths, parsed; the definition has checked them.
struct Paths<'a> {
    rows: JsonPath,
    each: Option<JsonPath>,
    fields: Vec<(&'a Field, JsonPath)>,
}

impl<'a> Paths<'a> {
    fn new(source: &Source, request: &'a Request) -> Result<Self, SourceError> {
        let parse = |path: &str| {
            JsonPath::parse(path).map_err(|error| SourceError::Query {
                source_name: source.name.clone(),
                words: format!("{path}: {error}"),
            })
        };
        Ok(Self {
            rows: parse(&request.rows)?,
            each: request.each.as_deref().map(parse).transpose()?,
            fields: request
                .fields
                .iter()
                .map(|field| Ok((field, parse(field.path.as_deref().unwrap_or("$"))?)))
                .collect::<Result<_, SourceError>>()?,
        })
    }

    fn add_rows(
        &self,
        source: &Source,
        json: &Json,
        request: &Request,
        table: &mut Table,
    ) -> Result<(), SourceError> {
        for outer in self.rows.query(json) {
            match &self.each {
                Some(each) => {
                    for inner in each.query(outer) {
                        self.add_row(
                            source,
                            table,
                            |field| if field.outer { outer } else { inner },
                        )?;
                    }
                }
                None if request.parallel => self.add_columns(source, outer, table)?,
                None => self.add_row(source, table, |_| outer)?,
            }
            if table.truncated {
                break;
            }
        }
        Ok(())
    }

    fn add_row<'j>(
        &self,
        source: &Source,
        table: &mut Table,
        from: impl Fn(&Field) -> &'j Json,
    ) -> Result<(), SourceError> {
        stop::check();
        let row = table.rows.len() + 1;
        let cells = self.fields.iter().map(|(field, path)| {
            let found = path.query(from(field)).first().unwrap_or(&Json::Null);
            cells::from_json(found, field).map_err(|error| bad_cell(source, row, field, error))
        });
        let cells = cells.collect::<Result<Vec<Value>, _>>()?;
        push(source, table, cells);
        Ok(())
    }

    /// Each field is a list; a shorter one is missing at its end. One that is a single value
    /// is the same in every row.
    fn add_columns(
        &self,
        source: &Source,
        outer: &Json,
        table: &mut Table,
    ) -> Result<(), SourceError> {
        let lists: Vec<Vec<&Json>> = self
            .fields
            .iter()
            .map(|(_, path)| spread(path.query(outer).all()))
            .collect();
        let longest = lists.iter().map(Vec::len).max().unwrap_or(0);
        for place in 0..longest {
            let row = table.rows.len() + 1;
            let cells = self.fields.iter().zip(&lists).map(|((field, _), list)| {
                let found = if list.len() == 1 {
                    list.first()
                } else {
                    list.get(place)
                };
                cells::from_json(found.copied().unwrap_or(&Json::Null), field)
                    .map_err(|error| bad_cell(source, row, field, error))
            });
            let cells = cells.collect::<Result<Vec<Value>, _>>()?;
            push(source, table, cells);
            if table.truncated {
                break;
            }
        }
        Ok(())
    }
}

/// A path that leads to one list means its entries.
fn spread(found: Vec<&Json>) -> Vec<&Json> {
    match found[..] {
        [Json::Array(entries)] => entries.iter().collect(),
        _ => found,
    }
}

fn push(source: &Source, table: &mut Table, cells: Vec<Value>) {
    if table.rows.len() == source.row_limit {
        table.truncated = true;
    } else {
        table.rows.push(cells);
    }
}

fn bad_cell(source: &Source, row: usize, field: &Field, error: BadCell) -> SourceError {
    SourceError::Cell {
        source_name: source.name.clone(),
        row,
        column: field.name.clone(),
        error,
    }
}

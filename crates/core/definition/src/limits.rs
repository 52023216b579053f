//! How large what people write may be. Each limit is far past what anybody needs by hand, and
//! near enough that reading a definition that is made to harm takes no longer than another.

/// Bytes of one definition in TOML; calendars have a limit of their own.
pub const DEFINITION_BYTES: usize = 4_000_000;
/// Tables in one list, such as `[[section]]` or `[[query]]`.
pub const TABLES: usize = 1_000;
/// Entries of one list, such as `to` or `times`.
pub const ENTRIES: usize = 5_000;
/// Problems that are told of one file.
pub const PROBLEMS: usize = 100;
/// Bytes of the text of one query.
pub const QUERY_BYTES: usize = 100_000;
/// Comments within comments in SQL.
pub const COMMENT_DEPTH: usize = 8;
/// Characters of a JSONPath.
pub const PATH_CHARACTERS: usize = 1_000;
/// Brackets within brackets in a JSONPath.
pub const PATH_DEPTH: usize = 8;
/// Steps in a JSONPath that look at everything below (`..`): each multiplies what is found.
pub const PATH_DESCENTS: usize = 2;
/// Bytes of a picture in base 64.
pub const PICTURE_BYTES: usize = 1_400_000;
/// Pixels of a picture, width times height.
pub const PICTURE_PIXELS: usize = 16_000_000;
/// Elements of an SVG picture, each counted as often as it is drawn.
pub const PICTURE_ELEMENTS: usize = 20_000;
/// Elements within elements of an SVG picture.
pub const PICTURE_DEPTH: usize = 64;
/// Dashboards on the way of a block that one takes from another.
pub const BORROWING_DEPTH: usize = 8;

//! Tables that the typesetter lays out row by row, each as one cell over all columns: it knows nothing of the cells
//! of a row but their widths, and each that it lays out costs it as much as a whole row does. Several rows of a long
//! table are such a cell. Readers are told of each cell all the same (ISO 14289-1, 7.5): its tags are made here.

use std::{
    num::{NonZeroU32, NonZeroUsize},
    sync::Arc,
};

use typst::{
    foundations::{Content, Packed, Smart},
    introspection::{Location, Tag, TagFlags},
    layout::{
        Axes,
        resolve::{Cell, CellGrid},
    },
    model::{TableCell, TableElem},
    pdf::{TableCellKind, TableHeaderScope},
};

/// Tags that readers are told of, and that the typesetter need not find again.
pub const FLAGS: TagFlags = TagFlags {
    introspectable: false,
    tagged: true,
};

/// A table as its readers are told of it, with a cell in each column of so many rows.
pub fn table(whole: &Packed<TableElem>, rows: usize) -> Option<Content> {
    let grid = whole.grid.as_ref()?;
    let columns = grid.cols.len();
    let tracks = Axes::new(&grid.cols[..], &grid.rows[..]);
    let empty = Content::empty();
    let cells = (0..columns * rows).map(|_| Cell::new(empty.clone()));
    let mut table = whole.clone();
    table.grid = Some(Arc::new(CellGrid::new(tracks, Axes::default(), cells)));
    Some(table.pack())
}

/// The heading of a column. The table that is told of does not know by itself which of its rows has them.
pub fn heading(cell: &Packed<TableCell>) -> Content {
    let mut cell = cell.clone();
    let kind = TableCellKind::Header(NonZeroU32::MIN, TableHeaderScope::Column);
    cell.kind.set(Smart::Custom(kind));
    cell.pack()
}

/// The tags with which a cell of a row begins and ends: the cell of this number among those that were laid out as one.
pub fn cell(
    laid_out: &Packed<TableCell>,
    at: Location,
    number: usize,
    (x, y): (usize, usize),
) -> (Tag, Tag) {
    let mut cell = laid_out.clone();
    cell.x.set(Smart::Custom(x));
    cell.y.set(Smart::Custom(y));
    cell.colspan.set(NonZeroUsize::MIN);
    let at = at.variant(number);
    cell.set_location(at);
    (Tag::Start(cell.pack(), FLAGS), Tag::End(at, 0, FLAGS))
}

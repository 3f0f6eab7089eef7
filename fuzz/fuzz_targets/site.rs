//! A site file, and lattices in a file.
#![no_main]

use lattice_store::{SiteFile, import_lattices};
use libfuzzer_sys::fuzz_target;
use std::cell::RefCell;

thread_local! {
    static FOLDER: RefCell<tempfile::TempDir> = RefCell::new(tempfile::tempdir_in("/dev/shm").expect("a folder"));
}

fuzz_target!(|text: &str| {
    FOLDER.with_borrow(|folder| {
        let path = folder.path().join("site.toml");
        std::fs::write(&path, text).expect("written");
        let _ = SiteFile::open(&path).map_err(|error| error.to_string());
        let _ = import_lattices(&path).map_err(|error| error.to_string());
    });
});

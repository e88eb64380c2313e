//! A machine with some twenty things, and damage of every kind to them.

use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::Path;

use veritum_demo::Content;
use veritum_demo::world::{World, add, add_file, package};

pub(crate) fn world(folder: &Path) -> World {
    let mut quay = package("quay", "1.0-1");
    for name in ["one", "two", "three", "four", "five", "six"] {
        add_file(&mut quay, &format!("/usr/share/quay/{name}"), &format!("{name}\n").repeat(50));
    }
    for n in 0..4 {
        add_file(&mut quay, &format!("/usr/share/quay/charts/deep/chart-{n}"), "chart\n");
    }
    add(&mut quay, "/usr/share/quay/charts/same", Content::Name("/usr/share/quay/charts/deep/chart-0".into()), 0o644);
    add(&mut quay, "/usr/share/quay/link", Content::Link("one".into()), 0o777);
    let mut pier = package("pier", "2.0-1");
    add(&mut pier, "/usr/bin/pier", Content::File(vec![7; 5000]), 0o755);
    for other in ["pier-a", "pier-b", "pier-c"] {
        add(&mut pier, &format!("/usr/bin/{other}"), Content::Name("/usr/bin/pier".into()), 0o755);
    }
    add_file(&mut pier, "/usr/share/pier/templates/letter", "dear\n");
    add_file(&mut pier, "/usr/share/pier/folder/inside", "inside\n");
    add_file(&mut pier, "/usr/share/pier/mode", "mode\n");
    World::new(folder, &[quay, pier])
}

pub(crate) fn damage(world: &World) {
    use std::fs::{create_dir, read, remove_dir_all, remove_file, write};
    let p = |path: &str| world.at(path);
    write(p("/usr/share/quay/one"), "changed").unwrap();
    write(p("/usr/share/quay/two"), "").unwrap();
    remove_file(p("/usr/share/quay/three")).unwrap();
    remove_file(p("/usr/share/quay/four")).unwrap();
    create_dir(p("/usr/share/quay/four")).unwrap();
    write(p("/usr/share/quay/four/kept"), "keep me").unwrap();
    remove_file(p("/usr/share/quay/five")).unwrap();
    symlink("../../../../../etc/hostname", p("/usr/share/quay/five")).unwrap();
    remove_dir_all(p("/usr/share/quay/charts")).unwrap();
    remove_file(p("/usr/share/quay/link")).unwrap();
    symlink("six", p("/usr/share/quay/link")).unwrap();
    let content = read(p("/usr/bin/pier")).unwrap();
    remove_file(p("/usr/bin/pier-a")).unwrap();
    write(p("/usr/bin/pier-a"), &content).unwrap();
    std::fs::set_permissions(p("/usr/bin/pier-a"), std::fs::Permissions::from_mode(0o755)).unwrap();
    remove_file(p("/usr/bin/pier-b")).unwrap();
    write(p("/usr/bin/pier-b"), "other").unwrap();
    remove_dir_all(p("/usr/share/pier/templates")).unwrap();
    symlink("/home/mirela", p("/usr/share/pier/templates")).unwrap();
    remove_dir_all(p("/usr/share/pier/folder")).unwrap();
    write(p("/usr/share/pier/folder"), "a file").unwrap();
    std::fs::set_permissions(p("/usr/share/pier/mode"), std::fs::Permissions::from_mode(0o666)).unwrap();
}

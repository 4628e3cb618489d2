//! Bills of materials (`bom(5)`), as an installer package of macOS leaves them.

/// The bytes of a list. Paths with a slash at the end are directories; each follows the directories that it lies in,
/// which need not be named. Leaves have at most `leaf` paths.
#[must_use]
pub fn bill_of_materials(paths: &[&str], leaf: usize) -> Vec<u8> {
    let mut blocks: Vec<Vec<u8>> = vec![Vec::new()];
    let mut add = |bytes: Vec<u8>| {
        blocks.push(bytes);
        number(blocks.len() - 1)
    };
    // Directories by name, with their numbers; the root is called `.`.
    let mut known: Vec<(String, u32)> = Vec::new();
    let mut pairs: Vec<[u32; 2]> = Vec::new();
    let mut enter = |path: &str, kind: u8, known: &mut Vec<(String, u32)>| {
        let (above, name) = path.rsplit_once('/').unwrap_or(if path.is_empty() { ("", ".") } else { ("", path) });
        let parent = known.iter().find(|(dir, _)| dir == above).map_or(0, |(_, number)| *number);
        let own = number(pairs.len() + 1);
        known.push((path.to_owned(), own));
        let details = [&[kind, 1, 0, 0], &[0_u8; 27][..]].concat();
        let details = add(details);
        let info = add([own, details].map(u32::to_be_bytes).concat());
        let named = add([&parent.to_be_bytes()[..], name.as_bytes(), b"\0"].concat());
        pairs.push([info, named]);
    };
    enter("", 2, &mut known);
    for path in paths {
        let whole = path.trim_end_matches('/');
        for (at, _) in path.match_indices('/') {
            if !known.iter().any(|(dir, _)| *dir == path[..at]) {
                enter(&path[..at], 2, &mut known);
            }
        }
        if whole == *path {
            enter(path, 1, &mut known);
        }
    }
    let leaves: Vec<&[[u32; 2]]> = pairs.chunks(leaf).collect();
    // The page above the leaves is the last.
    let first = number(blocks.len());
    for (at, leaf) in leaves.iter().enumerate() {
        let next = if at + 1 < leaves.len() { first + number(at) + 1 } else { 0 };
        let before = if at > 0 { first + number(at) - 1 } else { 0 };
        blocks.push(page(true, leaf, next, before));
    }
    let ends = leaves.iter().enumerate();
    let ends: Vec<[u32; 2]> = ends.map(|(at, leaf)| [first + number(at), leaf[leaf.len() - 1][1]]).collect();
    let top = if leaves.len() > 1 {
        blocks.push(page(false, &ends, 0, 0));
        number(blocks.len() - 1)
    } else {
        first
    };
    let tree = [&b"tree"[..], &[1, top, 4096, number(pairs.len())].map(u32::to_be_bytes).concat(), b"\0"].concat();
    blocks.push(tree);
    let mut names = 1_u32.to_be_bytes().to_vec();
    names.extend(number(blocks.len() - 1).to_be_bytes());
    names.extend(b"\x05Paths");
    stored(&blocks, &names)
}

/// A page of the tree.
fn page(is_leaf: bool, pairs: &[[u32; 2]], next: u32, before: u32) -> Vec<u8> {
    let count = u16::try_from(pairs.len()).expect("few paths in a page");
    let mut bytes = [u16::from(is_leaf).to_be_bytes(), count.to_be_bytes()].concat();
    bytes.extend([next, before].map(u32::to_be_bytes).concat());
    bytes.extend(pairs.iter().flatten().flat_map(|number| number.to_be_bytes()));
    bytes
}

/// The file of these blocks: the head of 512 bytes, the blocks, their index, the names.
fn stored(blocks: &[Vec<u8>], names: &[u8]) -> Vec<u8> {
    let mut body = Vec::new();
    let mut index = number(blocks.len()).to_be_bytes().to_vec();
    for block in blocks {
        let at = if block.is_empty() { 0 } else { 512 + number(body.len()) };
        index.extend([at, number(block.len())].map(u32::to_be_bytes).concat());
        body.extend(block);
    }
    let at = 512 + number(body.len());
    let head = [1, number(blocks.len()), at, number(index.len()), at + number(index.len()), number(names.len())];
    let mut bytes = [&b"BOMStore"[..], &head.map(u32::to_be_bytes).concat()].concat();
    bytes.resize(512, 0);
    [bytes, body, index, names.to_vec()].concat()
}

fn number(count: usize) -> u32 {
    u32::try_from(count).expect("a small list")
}

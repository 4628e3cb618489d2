//! Digests of files, many at a time.

mod lanes;
mod md5;
mod sha256;
mod words;

use std::io::{self, Read};
use std::sync::atomic::{AtomicUsize, Ordering};

use crate::bytes::ByteString;
use crate::fs::{FsError, RegularFile, Root};
use crate::model::{Algorithm, Digest};

use lanes::{BLOCK, LANES, Lanes};
use md5::Md5;
use sha256::Sha256;

/// One file, and the kind of digest that is wanted of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Job {
    /// The file.
    pub file: ByteString,
    /// How its digest is made.
    pub algorithm: Algorithm,
    /// How large it is thought to be, so that the largest can be begun first.
    pub size: u64,
}

/// What is told of the work while it goes on, and who can end it.
pub trait Progress: Sync {
    /// About so many files, and bytes, will be read in all; told again when more is known.
    fn expect(&self, files: usize, bytes: u64);

    /// One more is done with, of so many bytes.
    fn done(&self, bytes: u64);

    /// Whether to stop: the answer is then of what was read so far.
    fn is_stopped(&self) -> bool;
}

/// Nobody is told, and nobody ends it.
impl Progress for () {
    fn expect(&self, _: usize, _: u64) {}

    fn done(&self, _: u64) {}

    fn is_stopped(&self) -> bool {
        false
    }
}

/// The digest of each job's file, in the order of the jobs; `None` for those that were not read to their end because
/// the work was stopped.
///
/// Links at the end of a path are followed. Files are read once, and no more of them than they were long when they
/// were opened.
#[must_use]
pub fn of_files(root: &Root, jobs: &[Job], progress: &dyn Progress) -> Vec<Option<Result<Digest, FsError>>> {
    let with = |wanted: &dyn Fn(Algorithm) -> bool| {
        let mut order: Vec<usize> = (0..jobs.len()).filter(|job| wanted(jobs[*job].algorithm)).collect();
        // One large file at the end would keep a single lane busy while the others have nothing to do.
        order.sort_by_key(|job| std::cmp::Reverse(jobs[*job].size));
        Queue { root, jobs, order, next: AtomicUsize::new(0), progress }
    };
    let md5 = with(&|algorithm| algorithm == Algorithm::Md5);
    let sha256 = with(&|algorithm| algorithm == Algorithm::Sha256);
    let others = with(&|algorithm| !matches!(algorithm, Algorithm::Md5 | Algorithm::Sha256));
    let mut found: Vec<Option<Result<Digest, FsError>>> = vec![None; jobs.len()];
    let parts = rayon::broadcast(|_| {
        let mut finished = Finished::new();
        md5.in_lanes::<Md5>(&mut finished);
        sha256.in_lanes::<Sha256>(&mut finished);
        others.one_by_one(&mut finished);
        finished
    });
    for (job, digest) in parts.into_iter().flatten() {
        found[job] = Some(digest);
    }
    found
}

/// The SHA-256 of each file in hexadecimal, in their order; `None` for one that cannot be read.
#[must_use]
pub fn sha256_of<'f>(root: &Root, files: impl IntoIterator<Item = &'f ByteString>) -> Vec<Option<String>> {
    let job = |file: &ByteString| Job {
        file: file.clone(),
        algorithm: Algorithm::Sha256,
        size: root.target(file).map_or(0, |meta| meta.size),
    };
    let jobs: Vec<Job> = files.into_iter().map(job).collect();
    let found = of_files(root, &jobs, &());
    found.into_iter().map(|digest| Some(digest?.ok()?.hexadecimal)).collect()
}

/// The digest of one file.
///
/// # Errors
/// Where it cannot be read.
pub fn of_file(root: &Root, file: &[u8], algorithm: Algorithm) -> Result<Digest, FsError> {
    whole(root.open(file)?, file, algorithm)
}

/// One file, of which several records may say what is in it: read once for each algorithm that they use.
pub struct Content<'r> {
    root: &'r Root,
    file: &'r [u8],
    most: u64,
    read: Vec<(Algorithm, Option<Digest>)>,
}

impl<'r> Content<'r> {
    /// The digest of a file of at most `most` bytes; a larger file is not read at all.
    #[must_use]
    pub fn of(root: &'r Root, file: &'r [u8], most: u64) -> Self {
        Content { root, file, most, read: Vec::new() }
    }

    /// Whether this is its digest; `None` where that is not known, because it is too large or cannot be read.
    pub fn fits(&mut self, recorded: &Digest) -> Option<bool> {
        let known = self.read.iter().position(|(algorithm, _)| *algorithm == recorded.algorithm);
        let place = known.unwrap_or_else(|| {
            let opened = self.root.open(self.file).ok().filter(|opened| opened.meta().size <= self.most);
            let digest = opened.and_then(|opened| whole(opened, self.file, recorded.algorithm).ok());
            self.read.push((recorded.algorithm, digest));
            self.read.len() - 1
        });
        self.read[place].1.as_ref().map(|digest| digest == recorded)
    }
}

/// What workers take their jobs from: jobs of one way of making digests, or of those that have no lanes.
struct Queue<'q> {
    root: &'q Root,
    jobs: &'q [Job],
    order: Vec<usize>,
    next: AtomicUsize,
    progress: &'q dyn Progress,
}

type Finished = Vec<(usize, Result<Digest, FsError>)>;

impl Queue<'_> {
    /// The next job whose file can be opened; those whose file cannot be are finished.
    fn begin(&self, finished: &mut Finished) -> Option<(usize, RegularFile)> {
        while !self.progress.is_stopped() {
            let job = *self.order.get(self.next.fetch_add(1, Ordering::Relaxed))?;
            match self.root.open(&self.jobs[job].file) {
                Ok(opened) => return Some((job, opened)),
                Err(error) => self.finish(job, Err(error), finished),
            }
        }
        None
    }

    fn finish(&self, job: usize, digest: Result<Digest, FsError>, finished: &mut Finished) {
        finished.push((job, digest));
        self.progress.done(self.jobs[job].size);
    }

    fn one_by_one(&self, finished: &mut Finished) {
        while let Some((job, opened)) = self.begin(finished) {
            let Job { file, algorithm, .. } = &self.jobs[job];
            self.finish(job, whole(opened, file, *algorithm), finished);
        }
    }

    fn in_lanes<L: Lanes>(&self, finished: &mut Finished) {
        let mut state = L::new();
        let mut lanes: [Option<Lane>; LANES] = std::array::from_fn(|_| None);
        loop {
            for (place, lane) in lanes.iter_mut().enumerate() {
                self.keep_busy(place, lane, &mut state, finished);
            }
            let session = lanes.iter().flatten().map(|lane| lane.blocks().len() / BLOCK).min();
            let Some(session) = session else { return };
            let blocks: [&[u8]; LANES] =
                std::array::from_fn(|place| lanes[place].as_ref().map_or(&[][..], Lane::blocks));
            state.take(blocks, session);
            lanes.iter_mut().flatten().for_each(|lane| lane.start += session * BLOCK);
        }
    }

    /// Sees to it that a lane has a block to go on with, as long as there are jobs.
    fn keep_busy<L: Lanes>(&self, place: usize, lane: &mut Option<Lane>, state: &mut L, finished: &mut Finished) {
        loop {
            if lane.is_none() {
                *lane = self.begin(finished).map(|(job, opened)| Lane::new(job, opened));
                state.restart(place);
            }
            if self.progress.is_stopped() {
                *lane = None;
            }
            let Some(one) = lane else { return };
            let Job { file, algorithm, .. } = &self.jobs[one.job];
            let digest = match one.fill::<L>() {
                Ok(true) => return,
                Ok(false) => Ok(Digest::of(*algorithm, &state.digest(place))),
                Err(error) => Err(FsError::Failed { path: file.clone(), cause: error.to_string() }),
            };
            self.finish(one.job, digest, finished);
            *lane = None;
        }
    }
}

/// Bytes that a lane reads at a time.
const CHUNK: usize = 64 << 10;

/// A file on its way through a lane.
struct Lane {
    job: usize,
    file: RegularFile,
    buffer: Vec<u8>,
    start: usize,
    end: usize,
    length: u64,
    has_ended: bool,
}

impl Lane {
    fn new(job: usize, file: RegularFile) -> Self {
        let size = usize::try_from(file.meta().size).unwrap_or(CHUNK).min(CHUNK);
        Lane { job, file, buffer: vec![0; size + 2 * BLOCK], start: 0, end: 0, length: 0, has_ended: false }
    }

    /// The whole blocks of the data.
    fn blocks(&self) -> &[u8] {
        let whole = (self.end - self.start) / BLOCK * BLOCK;
        &self.buffer[self.start..self.start + whole]
    }

    /// Reads on where no block is left; false at the end of the file, its ending taken.
    fn fill<L: Lanes>(&mut self) -> io::Result<bool> {
        while self.end - self.start < BLOCK {
            if self.has_ended {
                return Ok(false);
            }
            self.buffer.copy_within(self.start..self.end, 0);
            (self.start, self.end) = (0, self.end - self.start);
            // The ending needs room behind what is read; a file that grows meanwhile is not followed.
            let left = usize::try_from(self.file.meta().size - self.length).unwrap_or(usize::MAX);
            let most = (self.buffer.len() - 2 * BLOCK).saturating_sub(self.end).min(left);
            let count = if most == 0 { 0 } else { self.file.read(&mut self.buffer[self.end..self.end + most])? };
            self.length += count as u64;
            self.end += count;
            if count == 0 {
                let ending = L::ending(self.length);
                self.buffer[self.end..self.end + ending.len()].copy_from_slice(&ending);
                self.end += ending.len();
                self.has_ended = true;
            }
        }
        Ok(true)
    }
}

/// The digest of an opened file, by itself.
fn whole(file: RegularFile, path: &[u8], algorithm: Algorithm) -> Result<Digest, FsError> {
    fn run<D: sha2::Digest>(mut file: impl Read) -> io::Result<Vec<u8>> {
        let mut digest = D::new();
        let mut buffer = vec![0; CHUNK];
        loop {
            match file.read(&mut buffer)? {
                0 => return Ok(digest.finalize().to_vec()),
                count => digest.update(&buffer[..count]),
            }
        }
    }
    let size = file.meta().size;
    let file = file.take(size);
    let bytes = match algorithm {
        Algorithm::Md5 => run::<::md5::Md5>(file),
        Algorithm::Sha1 => run::<sha1::Sha1>(file),
        Algorithm::Sha256 => run::<sha2::Sha256>(file),
        Algorithm::Sha384 => run::<sha2::Sha384>(file),
        Algorithm::Sha512 => run::<sha2::Sha512>(file),
    };
    bytes
        .map(|bytes| Digest::of(algorithm, &bytes))
        .map_err(|error| FsError::Failed { path: path.into(), cause: error.to_string() })
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "writes the files that are digested")]
mod tests {
    use super::*;

    struct Counted {
        done: AtomicUsize,
        most: usize,
    }

    impl Progress for Counted {
        fn expect(&self, _: usize, _: u64) {}

        fn done(&self, _: u64) {
            self.done.fetch_add(1, Ordering::Relaxed);
        }

        fn is_stopped(&self) -> bool {
            self.done.load(Ordering::Relaxed) >= self.most
        }
    }

    #[test]
    fn what_is_stopped_tells_what_was_read() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::write(dir.path().join("tide"), vec![7; 100_000]).unwrap();
        let job = Job { file: "/tide".into(), algorithm: Algorithm::Md5, size: 100_000 };
        let jobs = vec![job; 500];
        let root = Root::offline(dir.path()).unwrap();
        let found = of_files(&root, &jobs, &Counted { done: AtomicUsize::new(0), most: 100 });
        let read: Vec<_> = found.into_iter().flatten().collect();
        assert!((100..400).contains(&read.len()), "{}", read.len());
        assert!(read.iter().all(|digest| *digest == of_file(&root, b"/tide", Algorithm::Md5)));
    }

    #[test]
    fn every_length_has_the_digest_that_one_at_a_time_gives() {
        let dir = tempfile::tempdir().unwrap();
        let sizes = (0..300).chain([4096, 65_535, 65_536, 65_537, 65_600, 200_000, 1 << 20]);
        let mut jobs = Vec::new();
        for (number, size) in sizes.enumerate() {
            let content: Vec<u8> = (0..size).map(|at: usize| (at * 7 + number) as u8).collect();
            std::fs::write(dir.path().join(format!("{number}")), &content).unwrap();
            for algorithm in [Algorithm::Md5, Algorithm::Sha256, Algorithm::Sha512] {
                jobs.push(Job { file: format!("/{number}").into(), algorithm, size: size as u64 });
            }
        }
        jobs.push(Job { file: "/gone".into(), algorithm: Algorithm::Md5, size: 9 });
        let root = Root::offline(dir.path()).unwrap();
        let counted = Counted { done: AtomicUsize::new(0), most: usize::MAX };
        let found = of_files(&root, &jobs, &counted);
        assert_eq!(counted.done.into_inner(), jobs.len());
        for (job, digest) in jobs.iter().zip(found) {
            assert_eq!(digest.expect("nobody stopped it"), of_file(&root, &job.file, job.algorithm), "{}", job.file);
        }
        let recorded = of_file(&root, b"/12", Algorithm::Md5).unwrap();
        assert_eq!(Content::of(&root, b"/12", 12).fits(&recorded), Some(true));
        assert_eq!(Content::of(&root, b"/13", 13).fits(&recorded), Some(false));
        assert_eq!(Content::of(&root, b"/12", 11).fits(&recorded), None, "too large to be worth it");
        assert_eq!(Content::of(&root, b"/gone", 12).fits(&recorded), None, "what cannot be read says nothing");
        let empty = of_file(&root, b"/0", Algorithm::Md5).unwrap();
        assert_eq!(empty.hexadecimal, "d41d8cd98f00b204e9800998ecf8427e");
    }
}

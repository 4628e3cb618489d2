//! Findings: what a maintainer should know.

use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Cause, Evidence, Remedy, Severity};
use crate::bytes::{ByteString, shown_text};

macro_rules! kinds {
    ($($name:ident),* $(,)?) => {
        /// What kind of finding it is. Each is explained in [`crate::checks::catalogue`].
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
        #[serde(rename_all = "kebab-case")]
        #[expect(missing_docs, reason = "the catalogue explains every one")]
        pub enum FindingKind {
            $($name),*
        }

        impl FindingKind {
            /// Every kind.
            pub const ALL: &'static [FindingKind] = &[$(FindingKind::$name),*];
        }
    };
}

kinds! {
    ShadowedCommand,
    ContextDependentCommand,
    AliasHidesCommand,
    FunctionHidesCommand,
    BuiltinHidesCommand,
    MaskedLauncher,
    DuplicateLauncher,
    LauncherRunsOther,
    MaskedModule,
    RunsOtherCode,
    MaskedLibrary,
    MismatchedManual,
    VersionSplit,
    DuplicateTitle,
    HeldBack,
    UnmetRequirement,
    BypassedProtection,
    BrokenInterpreter,
    StaleBase,
    MissingLibrary,
    DanglingLink,
    DoomedLink,
    BrokenLauncher,
    InvisibleLauncher,
    BrokenJob,
    BrokenAssociation,
    MissingDirectory,
    DuplicateDirectory,
    RelativeDirectory,
    WritableDirectory,
    UncertainPath,
    StaleSession,
    NotExecutable,
    NoOrigin,
    Sideloaded,
    UnsignedBundle,
    DeadOrigin,
    EndOfLife,
    UnsignedSource,
    ExpiredKey,
    DuplicateSource,
    StaleCatalogue,
    AmbiguousIndex,
    UnusedSource,
    NobodyUpdates,
    HalfInstalled,
    BrokenPackage,
    UnreachableProgram,
    RecordDisagrees,
    DivertedProgram,
    ChosenByHand,
    UnmetExpectation,
    SettingsLeft,
    DataLeft,
    UnusedRuntime,
    UnneededDependency,
    UnreferencedStorePath,
    UnreferencedObject,
    DisabledRevision,
    OldGeneration,
    UnreachedEnvironment,
    UnusedInterpreter,
    StrayCompanion,
    UnownedInManagedDirectory,
    OverwrittenFile,
    AlteredFile,
    AlteredSettings,
    MissingFile,
    TwoOwners,
}

/// The word used in every output, such as `shadowed-command`.
impl fmt::Display for FindingKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // The serialised form is the word itself.
        self.serialize(f)
    }
}

/// Something that a maintainer should know.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Finding {
    /// What kind of finding it is.
    pub kind: FindingKind,
    /// How much it matters.
    pub severity: Severity,
    /// What it is about.
    pub subject: ByteString,
    /// One sentence.
    pub summary: String,
    /// Ids of the packages concerned.
    pub packages: Vec<ByteString>,
    /// The paths concerned.
    pub paths: Vec<ByteString>,
    /// The users in whose sessions it is so; empty for what is so whoever asks.
    pub users: Vec<ByteString>,
    /// What follows from it.
    pub consequence: String,
    /// The remedies, the safest first.
    pub remedies: Vec<Remedy>,
    /// Where it stands.
    pub evidence: Vec<Evidence>,
    /// Why it was accepted, where it was.
    pub accepted: Option<String>,
    /// Bytes that it takes on the disk, where the record tells.
    #[serde(skip)]
    pub size: Option<u64>,
    /// What it may share with other findings, where more is known than its packages and paths tell.
    #[serde(skip)]
    pub causes: Vec<Cause>,
}

impl Finding {
    /// Orders findings for a list: the most severe first; then by subject, so that what concerns one thing stands
    /// together.
    #[must_use]
    pub fn by_importance(a: &Self, b: &Self) -> std::cmp::Ordering {
        let key = |finding: &Finding| (std::cmp::Reverse(finding.severity), finding.subject.clone(), finding.kind);
        // Of findings about one thing the one that concerns the most comes first.
        let size = |finding: &Finding| std::cmp::Reverse((finding.packages.len(), finding.paths.len()));
        key(a).cmp(&key(b)).then_with(|| size(a).cmp(&size(b))).then_with(|| a.summary.cmp(&b.summary))
    }

    /// A finding with nothing yet but what it says; names and texts in its sentences can steer no terminal.
    pub fn new(
        kind: FindingKind,
        severity: Severity,
        subject: impl Into<ByteString>,
        summary: impl Into<String>,
        consequence: impl Into<String>,
    ) -> Self {
        Finding {
            kind,
            severity,
            subject: subject.into(),
            summary: shown_text(summary.into()),
            packages: Vec::new(),
            paths: Vec::new(),
            users: Vec::new(),
            consequence: shown_text(consequence.into()),
            remedies: Vec::new(),
            evidence: Vec::new(),
            accepted: None,
            size: None,
            causes: Vec::new(),
        }
    }
}

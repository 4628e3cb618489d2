//! Toolchains that fenna keeps on `jetty`, each by another version manager: all of them on purpose.

use super::Records;

/// Records, each with a program.
pub const RECORDS: Records = &[
    ("home/fenna/.pyenv/versions/3.11.7/bin/python", "#!/bin/sh\n"),
    ("home/fenna/.pyenv/version", "3.11.7\n"),
    ("home/fenna/.rbenv/versions/3.1.2/bin/ruby", "#!/bin/sh\n"),
    ("home/fenna/.rbenv/version", "3.1.2\n"),
    ("home/fenna/.nodenv/versions/20.2.0/bin/node", "#!/bin/sh\n"),
    ("home/fenna/.nodenv/version", "20.2.0\n"),
    ("home/fenna/.goenv/versions/1.22.0/bin/go", "#!/bin/sh\n"),
    ("home/fenna/.goenv/version", "1.22.0\n"),
    ("opt/jdk-21/bin/java", "#!/bin/sh\n"),
    ("opt/jdk-21/release", "IMPLEMENTOR=\"Quay\"\nJAVA_VERSION=\"21.0.2\"\n"),
    ("home/fenna/.jenv/versions/21", "-> /opt/jdk-21"),
    ("home/fenna/.jenv/version", "21\n"),
    ("home/fenna/.nvm/versions/node/v20.3.0/bin/node", "#!/bin/sh\n"),
    ("home/fenna/.nvm/alias/default", "20.3.0\n"),
    ("home/fenna/.local/share/fnm/node-versions/v18.0.0/installation/bin/node", "#!/bin/sh\n"),
    (
        "home/fenna/.local/share/fnm/aliases/default",
        "-> /home/fenna/.local/share/fnm/node-versions/v18.0.0/installation",
    ),
    ("home/fenna/.volta/tools/image/node/20.0.0/bin/node", "#!/bin/sh\n"),
    ("home/fenna/.volta/tools/user/platform.json", "{\"node\":{\"runtime\":\"20.0.0\",\"npm\":null},\"yarn\":null}"),
    (
        "home/fenna/.volta/tools/user/bins/sounding.json",
        "{\"name\":\"sounding\",\"package\":\"sounding\",\"version\":\"1.0.0\",\"platform\":{\"node\":\"20.0.0\",\"npm\":null,\"pnpm\":null,\"yarn\":null},\"manager\":\"Npm\"}",
    ),
    (
        "home/fenna/.volta/tools/image/packages/sounding/lib/node_modules/sounding/package.json",
        "{\"name\":\"sounding\",\"version\":\"1.0.0\"}",
    ),
    ("home/fenna/.volta/tools/image/packages/sounding/bin/sounding", "#!/usr/bin/env node\n"),
    ("home/fenna/.volta/bin/volta-shim", "#!/bin/sh\n"),
    ("home/fenna/.volta/bin/sounding", "-> volta-shim"),
    ("home/fenna/.asdf/plugins/tern/bin/list-all", "#!/bin/sh\n"),
    ("home/fenna/.asdf/installs/tern/1.0/bin/tern", "#!/bin/sh\n"),
    ("home/fenna/.asdf/shims/tern", "#!/usr/bin/env bash\n# asdf-plugin: tern 1.0\nexec asdf exec \"tern\" \"$@\"\n"),
    ("home/fenna/.tool-versions", "tern 1.0\n"),
    ("home/fenna/.local/share/mise/installs/erlang/26.1/bin/erl", "#!/bin/sh\n"),
    ("home/fenna/.config/mise/config.toml", "[tools]\nerlang = \"26\"\n"),
    ("home/fenna/.ghcup/ghc/9.4.7/bin/ghc-9.4.7", "#!/bin/sh\n"),
    ("home/fenna/.ghcup/bin/ghc", "-> ../ghc/9.4.7/bin/ghc-9.4.7"),
    ("home/fenna/.stack/programs/x86_64-linux/ghc-tinfo6-9.6.4/bin/ghc", "#!/bin/sh\n"),
    ("home/fenna/.stack/programs/x86_64-linux/ghc-tinfo6-9.6.4.installed", ""),
    (
        "home/fenna/.julia/juliaup/juliaup.json",
        "{\"Default\":\"release\",\"InstalledVersions\":{\"1.10.4+0.x64\":{\"Path\":\"./julia-1.10.4+0.x64\"}},\"InstalledChannels\":{\"release\":{\"Version\":\"1.10.4+0.x64\"}}}",
    ),
    ("home/fenna/.julia/juliaup/julia-1.10.4+0.x64/bin/julia", "#!/bin/sh\n"),
    (
        "home/fenna/.local/share/swiftly/config.json",
        "{\"inUse\":\"6.1.0\",\"installedToolchains\":[\"6.1.0\"],\"version\":\"1.0.0\"}",
    ),
    ("home/fenna/.local/share/swiftly/toolchains/6.1.0/usr/bin/swift", "#!/bin/sh\n"),
    ("home/fenna/.zvm/0.13.0/zig", "#!/bin/sh\n"),
    ("home/fenna/.gradle/wrapper/dists/gradle-8.5-bin/5t9huq95ubn472n8rpzujfbqh/gradle-8.5/bin/gradle", "#!/bin/sh\n"),
    ("home/fenna/.gradle/wrapper/dists/gradle-8.5-bin/5t9huq95ubn472n8rpzujfbqh/gradle-8.5-bin.zip.ok", ""),
    ("home/fenna/keel/gradlew", "#!/bin/sh\n"),
    (
        "home/fenna/keel/gradle/wrapper/gradle-wrapper.properties",
        "distributionBase=GRADLE_USER_HOME\ndistributionUrl=https\\://quay.example/gradle-8.5-bin.zip\n",
    ),
    ("home/fenna/.m2/wrapper/dists/apache-maven-3.9.6/3a8e14ce/bin/mvn", "#!/bin/sh\n"),
    ("home/fenna/keel/mvnw", "#!/bin/sh\n"),
    (
        "home/fenna/keel/.mvn/wrapper/maven-wrapper.properties",
        "distributionUrl=https://quay.example/apache-maven-3.9.6-bin.zip\n",
    ),
];

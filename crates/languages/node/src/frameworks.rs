//! What is known of frameworks and build tools of Node: how they build, what of it is served, and what only serves
//! while people develop.

use crate::Manifest;
use model::Result;
use source::SourceTree;

/// What becomes of a build.
#[derive(Clone, Copy)]
pub(super) enum Outcome {
    /// A server of its own, started by these words.
    Server(&'static [&'static str]),
    /// Pages in a folder.
    Pages(&'static str),
    /// Pages in a folder, of which the first one answers every path.
    SinglePage(&'static str),
}

/// A framework or a build tool, known by a package that the app declares.
pub(super) struct Framework {
    /// The package.
    pub(super) package: &'static str,
    /// What people call it.
    pub(super) name: &'static str,
    /// A package that must be declared, too, for this outcome.
    with: Option<&'static str>,
    /// The command that builds, where no script says one; with none, the framework is not built.
    pub(super) build: &'static [&'static str],
    /// What becomes of it, where that is known.
    pub(super) outcome: Option<Outcome>,
    /// What says the folder of the pages, in the tool's configuration.
    folder_key: Option<(&'static [&'static str], &'static str)>,
}

const fn framework(package: &'static str, name: &'static str) -> Framework {
    Framework { package, name, with: None, build: &[], outcome: None, folder_key: None }
}

const VITE: [&str; 4] = ["vite.config.ts", "vite.config.js", "vite.config.mts", "vite.config.mjs"];
const ASTRO: [&str; 3] = ["astro.config.mjs", "astro.config.ts", "astro.config.js"];

/// The first that fits is the app's; the special before the general.
const FRAMEWORKS: &[Framework] = &[
    Framework {
        build: &["next", "build"],
        outcome: Some(Outcome::Server(&["next", "start"])),
        ..framework("next", "Next")
    },
    Framework {
        build: &["nuxt", "build"],
        outcome: Some(Outcome::Server(&["node", ".output/server/index.mjs"])),
        ..framework("nuxt", "Nuxt")
    },
    Framework {
        with: Some("@sveltejs/adapter-node"),
        build: &["vite", "build"],
        outcome: Some(Outcome::Server(&["node", "build"])),
        ..framework("@sveltejs/kit", "SvelteKit")
    },
    Framework {
        with: Some("@sveltejs/adapter-static"),
        build: &["vite", "build"],
        outcome: Some(Outcome::Pages("build")),
        ..framework("@sveltejs/kit", "SvelteKit")
    },
    Framework { build: &["vite", "build"], ..framework("@sveltejs/kit", "SvelteKit") },
    Framework {
        build: &["remix", "vite:build"],
        outcome: Some(Outcome::Server(&["remix-serve", "build/server/index.js"])),
        ..framework("@remix-run/dev", "Remix")
    },
    Framework {
        build: &["react-router", "build"],
        outcome: Some(Outcome::Server(&["react-router-serve", "build/server/index.js"])),
        ..framework("@react-router/dev", "React Router")
    },
    Framework {
        with: Some("@astrojs/node"),
        build: &["astro", "build"],
        outcome: Some(Outcome::Server(&["node", "dist/server/entry.mjs"])),
        ..framework("astro", "Astro")
    },
    Framework {
        build: &["astro", "build"],
        outcome: Some(Outcome::Pages("dist")),
        folder_key: Some((&ASTRO, "outDir")),
        ..framework("astro", "Astro")
    },
    Framework {
        build: &["nest", "build"],
        outcome: Some(Outcome::Server(&["node", "dist/main"])),
        ..framework("@nestjs/core", "Nest")
    },
    Framework {
        build: &["ng", "build"],
        outcome: Some(Outcome::SinglePage("dist")),
        ..framework("@angular/core", "Angular")
    },
    Framework {
        build: &["react-scripts", "build"],
        outcome: Some(Outcome::SinglePage("build")),
        ..framework("react-scripts", "React")
    },
    Framework {
        build: &["vue-cli-service", "build"],
        outcome: Some(Outcome::SinglePage("dist")),
        ..framework("@vue/cli-service", "Vue")
    },
    Framework {
        build: &["docusaurus", "build"],
        outcome: Some(Outcome::Pages("build")),
        ..framework("@docusaurus/core", "Docusaurus")
    },
    Framework {
        build: &["vitepress", "build"],
        outcome: Some(Outcome::Pages(".vitepress/dist")),
        ..framework("vitepress", "VitePress")
    },
    Framework {
        build: &["eleventy"],
        outcome: Some(Outcome::Pages("_site")),
        ..framework("@11ty/eleventy", "Eleventy")
    },
    Framework {
        build: &["gatsby", "build"],
        outcome: Some(Outcome::Pages("public")),
        ..framework("gatsby", "Gatsby")
    },
    Framework {
        build: &["ember", "build", "--environment=production"],
        outcome: Some(Outcome::SinglePage("dist")),
        ..framework("ember-cli", "Ember")
    },
    framework("express", "Express"),
    framework("fastify", "Fastify"),
    framework("koa", "Koa"),
    framework("hono", "Hono"),
    framework("@hapi/hapi", "hapi"),
    framework("restify", "Restify"),
    framework("polka", "Polka"),
    Framework {
        build: &["vite", "build"],
        outcome: Some(Outcome::SinglePage("dist")),
        folder_key: Some((&VITE, "outDir")),
        ..framework("vite", "Vite")
    },
    Framework {
        build: &["parcel", "build", "index.html"],
        outcome: Some(Outcome::SinglePage("dist")),
        ..framework("parcel", "Parcel")
    },
    Framework { outcome: Some(Outcome::SinglePage("dist")), ..framework("webpack", "webpack") },
];

/// Commands that serve only while people develop, by their first words.
const DEVELOPMENT: [&[&str]; 30] = [
    &["vite"],
    &["next", "dev"],
    &["nuxt", "dev"],
    &["nuxt", "preview"],
    &["astro", "dev"],
    &["astro", "start"],
    &["astro", "preview"],
    &["ng", "serve"],
    &["ng", "s"],
    &["react-scripts", "start"],
    &["vue-cli-service", "serve"],
    &["docusaurus", "start"],
    &["docusaurus", "serve"],
    &["gatsby", "develop"],
    &["gatsby", "serve"],
    &["vitepress", "dev"],
    &["vitepress", "preview"],
    &["eleventy", "--serve"],
    &["ember", "serve"],
    &["ember", "s"],
    &["parcel"],
    &["webpack", "serve"],
    &["webpack-dev-server"],
    &["remix", "dev"],
    &["react-router", "dev"],
    &["nest", "start"],
    &["gulp"],
    &["grunt"],
    &["serve", "-s", "build"],
    &["serve", "-s", "dist"],
];

/// Commands that start a program again whenever a file changes.
const RESTARTING: [&str; 3] = ["nodemon", "node-dev", "supervisor"];

/// Commands that listen to their own machine only, unless a variable says otherwise: their first words, an option that
/// says it, and the variable.
const LOOPBACK: [(&[&str], &str, &str); 2] = [
    (&["fastify", "start"], "--address", "FASTIFY_ADDRESS"),
    (&["node", "dist/server/entry.mjs"], "--host", "HOST"),
];

/// The variable that makes a command listen to everybody, where it needs one.
pub(super) fn listens_everywhere(words: &[String]) -> Option<(String, String)> {
    let begins = |known: &[&str]| {
        words.len() >= known.len() && words.iter().zip(known).all(|(word, known)| word == known)
    };
    let (_, _, variable) = LOOPBACK
        .iter()
        .find(|(known, option, _)| begins(known) && !words.iter().any(|word| word.starts_with(option)))?;
    Some(((*variable).to_owned(), "0.0.0.0".to_owned()))
}

/// The framework that an app declares.
pub(super) fn of(manifest: &Manifest) -> Option<&'static Framework> {
    let has = |package: &str| {
        manifest.dependencies.contains_key(package) || manifest.dev_dependencies.contains_key(package)
    };
    FRAMEWORKS.iter().find(|f| has(f.package) && f.with.is_none_or(has))
}

/// Whether a command only serves while people develop.
pub(super) fn is_for_development(words: &[String]) -> bool {
    DEVELOPMENT.iter().any(|known| {
        words.len() >= known.len() && words.iter().zip(*known).all(|(word, known)| word == known)
    })
}

/// The command without what starts it again whenever a file changes.
pub(super) fn without_restarting(words: Vec<String>) -> Vec<String> {
    match words.split_first() {
        Some((first, rest)) if RESTARTING.contains(&first.as_str()) => {
            let rest: Vec<String> = rest.iter().skip_while(|word| word.starts_with('-')).cloned().collect();
            let is_script = rest.first().is_some_and(|file| file.ends_with("js"));
            if is_script { [vec!["node".to_owned()], rest].concat() } else { words }
        }
        _ => words,
    }
}

impl Framework {
    /// What becomes of the build, with the folder that the tool's configuration says.
    pub(super) fn outcome(
        &self,
        tree: &SourceTree,
        manifest: &Manifest,
    ) -> Result<Option<(Outcome, String)>> {
        let Some(outcome) = self.outcome else { return Ok(None) };
        let folder = match outcome {
            Outcome::Server(_) if self.package == "next" && exports_pages(tree)? => {
                return Ok(Some((Outcome::Pages("out"), "out".to_owned())));
            }
            Outcome::Server(_) => String::new(),
            Outcome::Pages(folder) | Outcome::SinglePage(folder) => match self.package {
                "@angular/core" => of_angular(tree, manifest)?.unwrap_or_else(|| folder.to_owned()),
                _ => self.configured(tree)?.unwrap_or_else(|| folder.to_owned()),
            },
        };
        Ok(Some((outcome, folder)))
    }

    /// The folder that the tool's configuration says.
    fn configured(&self, tree: &SourceTree) -> Result<Option<String>> {
        let Some((files, key)) = self.folder_key else { return Ok(None) };
        for file in files {
            if let Some(text) = tree.read(file)? {
                return Ok(text_of(&text, key)
                    .map(|folder| folder.trim_matches('/').trim_start_matches("./").to_owned()));
            }
        }
        Ok(None)
    }
}

/// The plain text that `key` has in a configuration written in JavaScript.
fn text_of(text: &str, key: &str) -> Option<String> {
    let after = text.split(key).nth(1)?.trim_start().strip_prefix(':')?.trim_start();
    let quote = after.chars().next().filter(|sign| matches!(sign, '"' | '\'' | '`'))?;
    after[1..].split(quote).next().filter(|text| !text.contains("${")).map(str::to_owned)
}

/// Whether Next is to write pages instead of a server.
fn exports_pages(tree: &SourceTree) -> Result<bool> {
    for file in ["next.config.ts", "next.config.js", "next.config.mjs"] {
        if let Some(text) = tree.read(file)? {
            return Ok(text_of(&text, "output").as_deref() == Some("export"));
        }
    }
    Ok(false)
}

/// The folder of the first project that `angular.json` names.
fn of_angular(tree: &SourceTree, manifest: &Manifest) -> Result<Option<String>> {
    let Some(text) = tree.read("angular.json")? else { return Ok(None) };
    let Ok(document) = serde_json::from_str::<serde_json::Value>(&text) else { return Ok(None) };
    let own = manifest.name.as_deref().and_then(|name| Some((name, document["projects"].get(name)?)));
    let first =
        || document["projects"].as_object()?.iter().next().map(|(name, project)| (name.as_str(), project));
    let Some((name, project)) = own.or_else(first) else { return Ok(None) };
    let build = &project["architect"]["build"];
    let folder = match &build["options"]["outputPath"] {
        serde_json::Value::String(folder) => folder.clone(),
        serde_json::Value::Object(parts) => {
            let base = parts.get("base").and_then(|base| base.as_str());
            base.map_or_else(|| format!("dist/{name}"), str::to_owned)
        }
        _ => format!("dist/{name}"),
    };
    let builder = build["builder"].as_str().unwrap_or("");
    let is_split = builder.ends_with(":application");
    Ok(Some(if is_split { format!("{folder}/browser") } else { folder }))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(line: &str) -> Vec<String> {
        line.split(' ').map(str::to_owned).collect()
    }

    #[test]
    fn servers_for_development_are_known_and_programs_are_started_once() {
        for (line, expected) in
            [("vite preview", true), ("next start", false), ("nest start", true), ("node app.js", false)]
        {
            assert_eq!(is_for_development(&words(line)), expected, "{line}");
        }
        assert_eq!(without_restarting(words("nodemon -q a.js x")), words("node a.js x"));
        assert_eq!(without_restarting(words("nodemon --exec x")), words("nodemon --exec x"));
    }

    #[test]
    fn the_folder_of_the_pages_is_read_where_the_tool_says_it() {
        let text = "export default defineConfig({ build: { outDir: 'wharf' } })";
        assert_eq!(text_of(text, "outDir").as_deref(), Some("wharf"));
        assert_eq!(text_of("outDir: `${root}/x`", "outDir"), None);
        assert_eq!(text_of("outDir: folder", "outDir"), None);
    }
}

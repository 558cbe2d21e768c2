//! The Gemfile, as far as it can be read without running it: it is a program.

use crate::gemfile_words::{Word, logical_lines, words};
use std::collections::BTreeSet;

/// What a Gemfile asks for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Gemfile {
    /// The gems, in the order of their lines.
    pub(super) gems: Vec<Wanted>,
    /// Where gems come from unless they say otherwise.
    pub(super) sources: Vec<String>,
    /// The version of Ruby, and its line.
    pub(super) ruby: Option<(String, u32)>,
    /// Whether a gem specification of the app adds more.
    pub(super) has_own_specification: bool,
    /// The first line that only running it would explain, and that may ask for gems that are not among these.
    pub(super) unread: Option<u32>,
}

/// A gem that a Gemfile asks for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Wanted {
    pub(super) name: String,
    pub(super) requirements: Vec<String>,
    /// Its groups; `default` when it names none.
    pub(super) groups: BTreeSet<String>,
    /// The platforms that it is only for.
    pub(super) platforms: BTreeSet<String>,
    /// A registry of its own.
    pub(super) source: Option<String>,
    /// Whether it comes from a repository or a folder.
    pub(super) is_elsewhere: bool,
    /// Whether a condition decides if it is asked for, or in which version.
    pub(super) is_conditional: bool,
    pub(super) line: u32,
}

impl Wanted {
    /// Whether all of its groups are left out.
    pub(super) fn is_left_out(&self, without: &[String]) -> bool {
        self.groups.iter().all(|group| without.contains(group))
    }

    /// Whether it is for the Ruby of images at all, and not only for others (Windows, the JVM).
    pub(super) fn is_for_us(&self) -> bool {
        let ours = |platform: &String| {
            platform == "ruby"
                || platform == "mri"
                || platform.starts_with("ruby_")
                || platform.starts_with("mri_")
        };
        self.platforms.is_empty() || self.platforms.iter().any(ours)
    }
}

/// What the lines up to an `end` add to the gems in them.
#[derive(Debug, Clone, Default)]
struct Block {
    groups: Vec<String>,
    platforms: Vec<String>,
    source: Option<String>,
    is_elsewhere: bool,
    /// Whether its lines are of no interest.
    is_skipped: bool,
}

impl Gemfile {
    /// Reads the text of a Gemfile.
    pub(super) fn parse(text: &str) -> Self {
        let mut gemfile = Self::default();
        let mut blocks: Vec<Block> = Vec::new();
        for (line, number) in logical_lines(text) {
            let words = words(&line);
            let opens = matches!(words.last(), Some(Word::Plain(word)) if word == "do")
                || line.split('|').next().is_some_and(|start| start.trim_end().ends_with(" do"));
            gemfile.line(&words, opens, number, &mut blocks);
        }
        gemfile
    }

    fn line(&mut self, words: &[Word], opens: bool, number: u32, blocks: &mut Vec<Block>) {
        let Some(Word::Plain(first)) = words.first() else {
            self.unread.get_or_insert(number);
            return;
        };
        let call = Call::of(&words[1..]);
        let is_skipped = blocks.iter().any(|block| block.is_skipped);
        match first.as_str() {
            "end" => {
                blocks.pop();
            }
            _ if is_skipped => blocks.extend(opens.then(Block::default)),
            "gem" => match call.texts.split_first() {
                Some((name, requirements)) => {
                    let wanted = wanted(name, requirements, &call, blocks, number);
                    self.gems.push(wanted);
                }
                None => self.unread = self.unread.or(Some(number)),
            },
            "source" if opens => {
                blocks.push(Block { source: call.texts.first().cloned(), ..Block::default() })
            }
            "source" => self.sources.extend(call.texts),
            "group" if opens => blocks.push(Block { groups: call.names(), ..Block::default() }),
            "platforms" | "platform" if opens => {
                blocks.push(Block { platforms: call.names(), ..Block::default() })
            }
            "git" | "path" | "github" if opens => {
                blocks.push(Block { is_elsewhere: true, ..Block::default() })
            }
            "git_source" => blocks.extend(opens.then(|| Block { is_skipped: true, ..Block::default() })),
            "ruby" => match call.texts.first() {
                Some(version) => self.ruby = Some((version.clone(), number)),
                // Another file has it, which is read by itself.
                None if call.option("file").is_some() => {}
                None => self.unread = self.unread.or(Some(number)),
            },
            "gemspec" => self.has_own_specification = true,
            // Whatever the condition is, its gems may be asked for.
            "if" | "unless" | "else" | "elsif" | "install_if" | "begin" | "case" | "when" => {
                self.unread = self.unread.or(Some(number));
                let begins = !matches!(first.as_str(), "else" | "elsif" | "when");
                blocks.extend(begins.then(Block::default));
            }
            "frozen_string_literal" => {}
            _ => {
                self.unread = self.unread.or(Some(number));
                blocks.extend(opens.then(Block::default));
            }
        }
    }

    /// The first line whose meaning only running it would tell.
    pub(super) fn unclear(&self) -> Option<u32> {
        let conditional = self.gems.iter().find(|gem| gem.is_conditional).map(|gem| gem.line);
        self.unread.into_iter().chain(conditional).min()
    }

    /// Whether this gem is asked for whatever a run of the Gemfile would come to.
    pub(super) fn is_certain(&self, gem: &Wanted) -> bool {
        !gem.is_conditional && self.unread.is_none_or(|line| gem.line < line)
    }

    /// The names of the gems that the image needs.
    pub(super) fn needed(&self, without: &[String]) -> BTreeSet<String> {
        let needed = self.gems.iter().filter(|gem| gem.is_for_us() && !gem.is_left_out(without));
        needed.map(|gem| gem.name.clone()).collect()
    }

    /// The names of the gems that it asks for in groups that are left out, and in no other.
    pub(super) fn left_out(&self, without: &[String]) -> BTreeSet<String> {
        let needed = self.needed(without);
        self.gems.iter().map(|gem| gem.name.clone()).filter(|name| !needed.contains(name)).collect()
    }
}

fn wanted(name: &str, requirements: &[String], call: &Call, blocks: &[Block], line: u32) -> Wanted {
    let own =
        |keys: [&str; 2]| keys.iter().flat_map(|key| call.option(key)).flatten().cloned().collect::<Vec<_>>();
    let mut groups: BTreeSet<String> = own(["group", "groups"]).into_iter().collect();
    groups.extend(blocks.iter().flat_map(|block| block.groups.clone()));
    if groups.is_empty() {
        groups.insert("default".to_owned());
    }
    let mut platforms: BTreeSet<String> = own(["platform", "platforms"]).into_iter().collect();
    platforms.extend(blocks.iter().flat_map(|block| block.platforms.clone()));
    let elsewhere = ["git", "github", "gist", "bitbucket", "path"];
    Wanted {
        name: name.to_owned(),
        requirements: requirements.to_vec(),
        groups,
        platforms,
        source: own(["source", "source"])
            .into_iter()
            .next()
            .or_else(|| blocks.iter().rev().find_map(|block| block.source.clone())),
        is_elsewhere: elsewhere.iter().any(|key| call.option(key).is_some())
            || blocks.iter().any(|block| block.is_elsewhere),
        is_conditional: call.is_conditional,
        line,
    }
}

/// What a method is called with: texts and names first, options after them.
#[derive(Default)]
struct Call {
    texts: Vec<String>,
    symbols: Vec<String>,
    options: Vec<(String, Vec<String>)>,
    /// Whether it is made under a condition, or its texts are the results of some.
    is_conditional: bool,
}

impl Call {
    fn of(words: &[Word]) -> Self {
        let mut call = Self::default();
        for word in words {
            match word {
                Word::Key(key) => call.options.push((key.clone(), Vec::new())),
                Word::Text(text) | Word::Symbol(text) if !call.options.is_empty() => {
                    if let Some((_, values)) = call.options.last_mut() {
                        values.push(text.clone());
                    }
                }
                Word::Text(text) => call.texts.push(text.clone()),
                Word::Symbol(name) => call.symbols.push(name.clone()),
                // `:group => :test`: what came before is a key.
                Word::Plain(arrow) if arrow == "=>" => {
                    let key = match call.options.last_mut() {
                        Some((_, values)) => values.pop(),
                        None => call.symbols.pop().or_else(|| call.texts.pop()),
                    };
                    call.options.extend(key.map(|key| (key, Vec::new())));
                }
                Word::Plain(word) => {
                    let is_modifier = matches!(word.as_str(), "if" | "unless");
                    call.is_conditional |= is_modifier || call.options.is_empty();
                }
            }
        }
        call
    }

    fn option(&self, key: &str) -> Option<&Vec<String>> {
        self.options.iter().find(|(name, _)| name == key).map(|(_, values)| values)
    }

    fn names(&self) -> Vec<String> {
        self.symbols.iter().chain(&self.texts).cloned().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = r#"# frozen_string_literal: true
source "https://gems.example" # the public one
git_source(:forge) { |repo| "https://forge.example/#{repo}.git" }
ruby "~> 3.2"

gem "rails", "~> 7.1.0", ">= 7.1.2"
gem('puma')
gem "pg",
    ">= 1.1", # a database
    require: false
gem "tzinfo-data", platforms: %i[ windows jruby ]
gem 'fog', :git => 'https://forge.example/fog.git', :group => :production
group :development, :test do
  gem "debug", platforms: [:mri, :windows]
  gem "horn"
end
gem "rubocop", group: [:development, "lint"]
source "https://gems.kestrel.example" do
  gem "tide"
end
path "parts" do
  gem "buoy"
end
"#;

    #[test]
    fn gems_are_read_with_groups_platforms_and_places() {
        let gemfile = Gemfile::parse(TEXT);
        assert_eq!(gemfile.unread, None);
        assert_eq!(gemfile.sources, ["https://gems.example"]);
        assert_eq!(gemfile.ruby, Some(("~> 3.2".to_owned(), 4)));
        let shown: Vec<String> = gemfile
            .gems
            .iter()
            .map(|gem| {
                let groups: Vec<_> = gem.groups.iter().map(String::as_str).collect();
                let source = gem.source.as_deref().map_or("", |_| " from its own");
                let elsewhere = if gem.is_elsewhere { " elsewhere" } else { "" };
                format!("{} {} {}{source}{elsewhere}", gem.name, gem.requirements.join("&"), groups.join("+"))
            })
            .collect();
        assert_eq!(
            shown,
            [
                "rails ~> 7.1.0&>= 7.1.2 default",
                "puma  default",
                "pg >= 1.1 default",
                "tzinfo-data  default",
                "fog  production elsewhere",
                "debug  development+test",
                "horn  development+test",
                "rubocop  development+lint",
                "tide  default from its own",
                "buoy  default elsewhere",
            ]
        );
        let without = ["development", "test"].map(str::to_owned);
        let needed: Vec<_> = gemfile.needed(&without).into_iter().collect();
        assert_eq!(needed.join(" "), "buoy fog pg puma rails rubocop tide");
        assert_eq!(
            gemfile.left_out(&without).into_iter().collect::<Vec<_>>().join(" "),
            "debug horn tzinfo-data"
        );
    }

    #[test]
    fn what_only_running_it_would_tell_is_marked() {
        for (text, line) in [
            ("gem \"a\"\nif ENV[\"FOG\"]\n  gem \"b\"\nend\ngem \"c\"\n", 2),
            ("eval_gemfile \"other\"\n", 1),
            ("%w[a b].each do |name|\n  gem name\nend\ngem \"c\"\n", 1),
            ("gem NAME\n", 1),
        ] {
            assert_eq!(Gemfile::parse(text).unread, Some(line), "{text}");
        }
        let names =
            |text: &str| Gemfile::parse(text).gems.into_iter().map(|gem| gem.name).collect::<Vec<_>>();
        assert_eq!(names("group :test do\n  if x\n gem 'a'\n end\n gem 'b'\nend\ngem 'c'"), ["a", "b", "c"]);
        let conditional = |line: &str| Gemfile::parse(line).gems[0].is_conditional;
        assert!(conditional("gem 'fog', '~> 0.4' if Gem.ruby_version < Gem::Version.new('2.6.0')"));
        assert!(conditional("gem 'horn', (RUBY_VERSION < '3' ? '~> 1.12' : '~> 1.13')"));
        assert!(conditional("gem 'pier', require: false unless ENV['CI']"));
        assert!(!conditional("gem 'tide', '~> 1.0', :require => false, group: :production"));
        assert_eq!(Gemfile::parse("gem 'a'\ngem 'b' if x\n").unclear(), Some(2));
        assert!(Gemfile::parse("gemspec\n").has_own_specification);
        assert!(Gemfile::parse("ruby file: \".ruby-version\"\n").unread.is_none());
    }
}

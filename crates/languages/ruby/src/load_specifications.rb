# Writes the specifications of gems from a repository as plain ones: theirs may ask git, which images do not have. Compiled
# parts are built on the way.
#
# Arguments: the names of the gems.
require "rubygems"
require "rubygems/ext"
require "fileutils"

# Many specifications ask git which files there are: all of them, since these are the files of a commit.
FileUtils.mkdir_p("/tmp/git-of-build")
File.write("/tmp/git-of-build/git", <<~SCRIPT)
  #!/bin/sh
  case " $* " in
    *" ls-files "*" -z "*) find . -type f -printf '%P\\0' | sort -z ;;
    *" ls-files "*) find . -type f -printf '%P\\n' | sort ;;
  esac
SCRIPT
File.chmod(0o755, "/tmp/git-of-build/git")
ENV["PATH"] = "/tmp/git-of-build:#{ENV.fetch("PATH")}"

ARGV.each do |name|
  path = Dir.glob("{,*/,*/*/}#{name}.gemspec").min_by(&:length) or abort "the repository has no #{name}.gemspec"
  folder = File.dirname(File.expand_path(path))
  specification = Dir.chdir(folder) { Gem::Specification.load(File.basename(path)) } or abort "#{path} cannot be loaded"
  Dir.chdir(folder) do
    specification.extensions.each do |extension|
      built = File.join(folder, ".built")
      FileUtils.mkdir_p(built)
      Dir.chdir(File.dirname(extension)) do
        system("ruby", File.basename(extension), exception: true)
        system("make", exception: true)
        system("make", "install", "sitearchdir=#{built}", "sitelibdir=#{built}", exception: true)
        system("make", "clean")
      end
      FileUtils.cp_r("#{built}/.", specification.raw_require_paths.first)
      FileUtils.rm_rf(built)
    end
    Dir.glob("#{specification.raw_require_paths.first}/**/*.so").each { |file| system("strip", "--strip-debug", "--remove-section=.note.gnu.build-id", file) }
  end
  specification.extensions.clear
  specification.date = Time.at(ENV.fetch("SOURCE_DATE_EPOCH").to_i).utc
  File.write(path, specification.to_ruby)
end

# Builds the compiled parts of a gem as RubyGems does, and leaves them in a folder.
#
# Arguments: the specification of the gem, the folder that its parts are put in, what its own program is told.
require "rubygems"
require "rubygems/ext"
require "fileutils"

path, result, *told = ARGV
specification = Gem::Specification.load(path) or abort "#{path} is no specification"
begin
  Gem::Ext::Builder.new(specification, told).build_extensions
rescue Gem::Ext::BuildError => error
  # What went wrong is at the end of a log, which the message only names.
  warn error.message
  Dir.glob(File.join(specification.full_gem_path, "**", "mkmf.log")).each { |log| warn File.read(log).lines.last(30).join }
  exit 1
end

KEPT = %w[gem.build_complete gem_make.out mkmf.log].freeze
built = specification.extension_dir
Dir.glob("**/*", base: built).each do |file|
  from = File.join(built, file)
  next if File.directory?(from) || KEPT.include?(File.basename(file))
  to = File.join(result, file)
  FileUtils.mkdir_p(File.dirname(to))
  FileUtils.cp(from, to)
  # Neither where it was built nor when may show.
  system("strip", "--strip-debug", "--remove-section=.note.gnu.build-id", to, exception: true) if file.end_with?(".so")
end

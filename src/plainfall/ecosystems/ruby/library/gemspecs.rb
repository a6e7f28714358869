# Written by Plainfall: evaluates the gemspecs that are named, and prints what each says.
require 'rubygems'
require 'json'

rows = ARGV.map do |file|
  spec = Dir.chdir(File.dirname(file)) { Gem::Specification.load(File.basename(file)) }
  next { 'file' => file } unless spec
  { 'file' => file, 'name' => spec.name, 'version' => spec.version.to_s,
    'needs' => spec.dependencies.map { |one| [one.name, one.requirement.to_s, one.type.to_s] } }
end
puts "\n" + JSON.generate(rows)

# Written by Plainfall: tells what this Ruby is.
require 'rubygems'
require 'json'
require 'rbconfig'

defaults = {}
needs = {}
libraries = []
debuggers = []
in_place = File.file?(File.join(RbConfig::CONFIG['rubylibdir'], 'bundler/setup.rb'))
Gem::Specification.each do |spec|
  debuggers = spec.full_require_paths if spec.name == 'debug' && spec.version >= Gem::Version.new('1.0')
  if spec.name == 'bundler'
    own = File.file?(File.join(spec.full_gem_path, 'lib', 'bundler', 'setup.rb'))
    next unless own || (spec.default_gem? && in_place)
    libraries << [spec.version.to_s, spec.full_gem_path, spec.loaded_from, spec.default_gem?]
  elsif spec.default_gem?
    defaults[spec.name] = spec.version.to_s
    needs[spec.name] = spec.runtime_dependencies.to_h { |one| [one.name, one.requirement.to_s] }
  end
end
headers = File.file?(File.join(RbConfig::CONFIG['rubyhdrdir'].to_s, 'ruby.h'))
puts JSON.generate(
  'version' => RUBY_VERSION, 'patchlevel' => RUBY_PATCHLEVEL, 'executable' => File.realpath(RbConfig.ruby), 'engine' => RUBY_ENGINE,
  'api' => RbConfig::CONFIG['ruby_version'], 'extensions' => Gem.extension_api_version,
  'system' => Gem::Platform.local.to_s, 'rubygems' => Gem::VERSION, 'defaults' => defaults, 'needs' => needs,
  'libraries' => libraries, 'debugger' => debuggers, 'headers' => headers
)

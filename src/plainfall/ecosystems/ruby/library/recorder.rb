# Written by Plainfall: evaluates a manifest with methods that only record, and prints what was declared.
require 'rubygems'
require 'json'

class ManifestRecorder
  KEPT = %w[path git branch tag ref source glob submodules].freeze

  def initialize
    @sources = []
    @wishes = []
    @gemspecs = []
    @around = { 'groups' => [], 'platforms' => [], 'source' => {} }
    @file = nil
  end

  attr_reader :sources, :wishes, :gemspecs

  def read(file)
    before = @file
    @file = File.expand_path(file)
    instance_eval(File.read(@file), @file, 1)
  ensure
    @file = before
  end

  def eval_gemfile(file, _text = nil)
    read(File.expand_path(file.to_s, File.dirname(@file)))
  end

  def source(address, *)
    return @sources << address.to_s unless block_given?
    around('source' => @around['source'].merge('source' => address.to_s)) { yield }
  end

  def git_source(name, &block)
    @own ||= {}
    @own[name.to_s] = block
  end

  def gem(name, *rest)
    options = rest.last.is_a?(Hash) ? rest.pop : {}
    options = options.to_h { |key, value| [key.to_s, value] }
    return if options.key?('install_if') && !Array(options['install_if']).all? { |one| one.respond_to?(:call) ? one.call : one }
    source = @around['source'].dup
    KEPT.each { |key| source[key] = options[key].to_s if options[key] }
    source['git'] = "https://github.com/#{options['github'].to_s.include?('/') ? options['github'] : "#{options['github']}/#{options['github']}"}.git" if options['github']
    (@own || {}).each { |key, block| source['git'] = block.call(options[key]).to_s if options[key] }
    groups = @around['groups'] + Array(options['group']) + Array(options['groups'])
    platforms = @around['platforms'] + Array(options['platforms']) + Array(options['platform'])
    line = (caller_locations(1, 30).find { |one| one.path == @file } || caller_locations(1, 1).first).lineno
    @wishes << { 'name' => name.to_s, 'requirements' => rest.flatten.map(&:to_s), 'groups' => groups.map(&:to_s),
                 'platforms' => platforms.map(&:to_s), 'source' => source, 'file' => @file, 'line' => line }
  end

  def group(*names)
    names.pop if names.last.is_a?(Hash)
    around('groups' => @around['groups'] + names.flatten.map(&:to_s)) { yield }
  end

  def platforms(*names)
    around('platforms' => @around['platforms'] + names.flatten.map(&:to_s)) { yield }
  end
  alias platform platforms

  def path(folder, options = {})
    around('source' => @around['source'].merge('path' => folder.to_s)) { yield if block_given? }
  end

  def git(address, options = {})
    more = options.to_h { |key, value| [key.to_s, value.to_s] }.slice(*KEPT)
    around('source' => @around['source'].merge('git' => address.to_s).merge(more)) { yield if block_given? }
  end

  def github(name, options = {}, &block)
    git("https://github.com/#{name.include?('/') ? name : "#{name}/#{name}"}.git", options, &block)
  end

  def install_if(*conditions)
    yield if conditions.flatten.all? { |one| one.respond_to?(:call) ? one.call : one }
  end

  def gemspec(options = {})
    @gemspecs << (options[:path] || '.').to_s
  end

  def env(*); end
  def plugin(*); end
  def ruby(*); end

  private

  def around(more)
    before = @around
    @around = @around.merge(more)
    yield
  ensure
    @around = before
  end
end

recorder = ManifestRecorder.new
recorder.read(ARGV[0])
puts "\n" + JSON.generate('sources' => recorder.sources, 'wishes' => recorder.wishes, 'gemspecs' => recorder.gemspecs)

"""Clones on real Ruby frameworks: written for the tests; the frameworks themselves are fetched."""

from __future__ import annotations

__all__ = ["CLONES", "WISHES"]

WISHES = {
    "rack": {"sinatra": "", "puma": "", "rake": "", "sequel": "", "sqlite3": ""},
    "records": {"sinatra": "", "puma": "", "rake": "", "activerecord": "", "sqlite3": ""},
    "rails": {"rails": "", "puma": "", "sqlite3": "", "pg": ""},
    "static": {"jekyll": "", "webrick": ""},
}
_CONTROLLER = """\
class StationsController < ActionController::Base
  def index
    @stations = Station.order(:name)
    render inline: "<!doctype html><title>Stations</title><ul><% @stations.each do |one| %><li><%= one.name %></li><% end %></ul>"
  end
end
"""
_MIGRATION = """\
class MakeStations < ActiveRecord::Migration[6.0]
  def change
    create_table(:stations) { |table| table.string :name, null: false }
  end
end
"""
_DESK = """\
require 'sinatra/base'
require 'active_record'
ActiveRecord::Base.establish_connection(adapter: 'sqlite3', database: File.join(__dir__, 'db/desk.sqlite3'))
class Gauge < ActiveRecord::Base; end
class RainDesk < Sinatra::Base
  get('/') { "<!doctype html><title>Rain desk</title><h1>#{Gauge.count} gauges</h1>" }
end
"""
# No task for migrations stands in the clone: the package brings them.
_RAKEFILE = """\
require_relative 'app'
include ActiveRecord::Tasks
DatabaseTasks.root = __dir__
DatabaseTasks.env = 'development'
DatabaseTasks.db_dir = 'db'
DatabaseTasks.migrations_paths = ['db/migrate']
ActiveRecord::Base.configurations = { 'development' => { 'adapter' => 'sqlite3', 'database' => 'db/desk.sqlite3' } }
DatabaseTasks.database_configuration = ActiveRecord::Base.configurations
DatabaseTasks.seed_loader = Class.new { def self.load_seed = load('db/seeds.rb') }
task(:environment) { ActiveRecord::Base.establish_connection(:development) }
load 'active_record/railties/databases.rake'
"""
CLONES: dict[str, dict[str, str]] = {
    "records": {
        "config.ru": "require_relative 'app'\nrun RainDesk\n",
        "app.rb": _DESK,
        "Rakefile": _RAKEFILE,
        "db/migrate/20260101000000_make_gauges.rb": _MIGRATION.replace("Stations", "Gauges").replace(
            "stations", "gauges"
        ),
        "db/seeds.rb": '3.times { |number| Gauge.create!(name: "gauge #{number}") }\n',
    },
    "rack": {
        "config.ru": "require_relative 'app'\nrun RainDesk\n",
        "app.rb": (
            "require 'sinatra/base'\nrequire 'sequel'\n"
            "class RainDesk < Sinatra::Base\n"
            "  DB = Sequel.connect(ENV.fetch('DESK_DATABASE', 'sqlite://desk.db'))\n"
            "  get('/') { \"<!doctype html><title>Rain desk</title><h1>#{DB[:stations].count} stations</h1>\" }\n"
            "end\n"
        ),
        "Rakefile": (
            "require 'sequel'\nnamespace :db do\n"
            "  desc 'Makes the tables'\n"
            "  task :migrate do\n"
            "    db = Sequel.connect(ENV.fetch('DESK_DATABASE', 'sqlite://desk.db'))\n"
            "    db.create_table?(:stations) { primary_key :id; String :name }\n"
            "  end\n"
            "  task :seed do\n"
            "    db = Sequel.connect(ENV.fetch('DESK_DATABASE', 'sqlite://desk.db'))\n"
            "    ['Copper Hill', 'Ashford Mill'].each { |name| db[:stations].insert(name: name) }\n"
            "  end\n"
            "end\n"
        ),
    },
    "rails": {
        "bin/rails": (
            "#!/usr/bin/env ruby\nAPP_PATH = File.expand_path('../config/application', __dir__)\n"
            "require_relative '../config/boot'\nrequire 'rails/commands'\n"
        ),
        "config/boot.rb": (
            "ENV['BUNDLE_GEMFILE'] ||= File.expand_path('../Gemfile', __dir__)\nrequire 'bundler/setup'\n"
        ),
        "config/application.rb": (
            "require_relative 'boot'\nrequire 'rails'\n"
            '%w[active_record action_controller action_view].each { |name| require "#{name}/railtie" }\n'
            "module Ledger\n  class Application < Rails::Application\n    config.load_defaults 6.0\n"
            "    config.eager_load = false\n  end\nend\n"
        ),
        "config/environment.rb": "require_relative 'application'\nRails.application.initialize!\n",
        "config/environments/development.rb": "Rails.application.configure { config.consider_all_requests_local = true }\n",
        "config/routes.rb": "Rails.application.routes.draw { root 'stations#index' }\n",
        "config/database.yml": "development:\n  adapter: sqlite3\n  database: db/development.sqlite3\n",
        "config.ru": "require_relative 'config/environment'\nrun Rails.application\n",
        "Rakefile": "require_relative 'config/application'\nRails.application.load_tasks\n",
        "app/controllers/stations_controller.rb": _CONTROLLER,
        "app/models/station.rb": "class Station < ActiveRecord::Base\nend\n",
        "db/migrate/20260101000000_make_stations.rb": _MIGRATION,
        "db/seeds.rb": "['Copper Hill', 'Ashford Mill'].each { |name| Station.create!(name: name) }\n",
        "README.md": (
            "# Ledger\n\n## Setup\n\n```\nbundle install\nbin/rails db:create db:migrate db:seed\nbin/rails server\n```\n"
        ),
    },
    "static": {
        "_config.yml": "title: Rain notes\n",
        "index.html": "---\n---\n<!doctype html><title>{{ site.title }}</title><h1>March</h1>\n",
    },
}

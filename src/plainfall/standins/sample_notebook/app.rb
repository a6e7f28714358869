# frozen_string_literal: true

require 'page_slip'

# What the readers wrote beside their numbers.
class Notebook
  def initialize(file, title)
    @file = file
    @title = title
  end

  def call(environment)
    return [404, { 'content-type' => 'text/plain' }, ["there is no such page\n"]] unless environment['PATH_INFO'] == '/'

    notes = File.readlines(@file, chomp: true).map { |line| line.split("\t", 4) }
    [200, { 'content-type' => 'text/html; charset=utf-8' }, [PageSlip.text(@title, notes)]]
  end
end

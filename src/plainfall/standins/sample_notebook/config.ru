# frozen_string_literal: true

require_relative 'app'

run Notebook.new(File.join(__dir__, 'notes.txt'), ENV.fetch('NOTEBOOK_TITLE', 'Notes of the readers'))

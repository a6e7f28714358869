# frozen_string_literal: true

require 'cgi'
require 'word_rain'

# A page with one list.
module PageSlip
  def self.text(title, notes)
    rows = notes.map { |day, station, amount, note| "<li>#{[day, station, WordRain.words(amount), note].map { |one| CGI.escapeHTML(one) }.join(', ')}</li>" }
    shown = CGI.escapeHTML(title)
    "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>#{shown}</title></head>" \
      "<body><h1>#{shown}</h1><ul>#{rows.join("\n")}</ul></body></html>"
  end
end

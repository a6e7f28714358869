# frozen_string_literal: true

require 'socket'
require 'stringio'

# A small server for applications that speak Rack's protocol: one request for each connection.
module RainRack
  # What a configuration file sets up.
  class Configuration
    attr_reader :application

    def run(application)
      @application = application
    end
  end

  def self.application(file)
    configuration = Configuration.new
    configuration.instance_eval(File.read(file), File.expand_path(file))
    configuration.application or abort("#{file} runs nothing")
  end

  def self.serve(application, host, port)
    server = TCPServer.new(host, port)
    puts "rain-rack serves http://#{host}:#{port}/"
    $stdout.flush
    loop do
      client = server.accept
      Thread.new { answer(application, client) }
    end
  rescue Interrupt, SignalException
    server&.close
  end

  def self.answer(application, client)
    first = client.gets.to_s
    method, target, = first.split
    nil until client.gets.to_s.strip.empty?
    path, query = target.to_s.split('?', 2)
    environment = { 'REQUEST_METHOD' => method, 'PATH_INFO' => path, 'QUERY_STRING' => query.to_s, 'SCRIPT_NAME' => '',
                    'rack.input' => StringIO.new, 'rack.errors' => $stderr }
    status, headers, body = application.call(environment)
    text = +''
    body.each { |piece| text << piece }
    lines = headers.map { |name, value| "#{name}: #{value}\r\n" }.join
    client.write("HTTP/1.0 #{status} \r\n#{lines}content-length: #{text.bytesize}\r\n\r\n#{text}")
    puts "#{method} #{target} #{status}"
    $stdout.flush
  rescue IOError, SystemCallError => error
    warn "a connection broke: #{error.message}"
  ensure
    client.close
  end
end
